#include "jevrin/base/hash.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <charconv>
#include <memory>
#include <vector>

namespace jevrin::inline v1 {

std::string ContentHash::text() const {
    return fmt::format("{:016x}{:016x}", high, low);
}

std::optional<ContentHash> ContentHash::from_text(std::string_view text) {
    ContentHash hash;
    const auto half = [&](std::size_t at, std::uint64_t& value) {
        const char* end = text.data() + at + 16;
        return std::from_chars(text.data() + at, end, value, 16).ptr == end;
    };
    if (text.size() != 32 || !half(0, hash.high) || !half(16, hash.low)) return std::nullopt;
    return hash;
}

ContentHash hash_of(std::span<const std::byte> bytes) {
    const XXH128_hash_t hash = XXH3_128bits(bytes.data(), bytes.size());
    return {hash.high64, hash.low64};
}

std::string content_hash(std::span<const std::byte> bytes) {
    return hash_of(bytes).text();
}

std::string content_hash(std::string_view text) {
    return content_hash(std::as_bytes(std::span(text.data(), text.size())));
}

struct ContentHasher::State {
    std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> hash{XXH3_createState(), XXH3_freeState};
};

ContentHasher::ContentHasher() : state_(new State) {
    XXH3_128bits_reset(state_->hash.get());
}

ContentHasher::~ContentHasher() = default;

void ContentHasher::add(std::span<const std::byte> bytes) {
    XXH3_128bits_update(state_->hash.get(), bytes.data(), bytes.size());
}

ContentHash ContentHasher::hash() const {
    const XXH128_hash_t hash = XXH3_128bits_digest(state_->hash.get());
    return {hash.high64, hash.low64};
}

std::string content_hash_of_file(const std::filesystem::path& path) {
    const InputFile file(path);
    ContentHasher hasher;
    std::vector<std::byte> piece(std::size_t{1} << 20U);
    for (std::int64_t done = 0; done < file.size(); done += std::ssize(piece)) {
        const auto count = static_cast<std::size_t>(std::min(std::ssize(piece) + 0L, file.size() - done));
        file.read(done, std::span(piece).first(count));
        hasher.add(std::span(piece).first(count));
    }
    return hasher.hash().text();
}

std::uint64_t content_number(std::string_view text) {
    return XXH3_64bits(text.data(), text.size());
}

std::uint64_t content_number(std::span<const std::byte> bytes) {
    return XXH3_64bits(bytes.data(), bytes.size());
}

}  // namespace jevrin::inline v1
