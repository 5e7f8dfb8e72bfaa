#include "jevrin/base/hash.hpp"

#include <fmt/format.h>
#include <xxhash.h>

#include <charconv>

namespace jevrin {

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

std::uint64_t content_number(std::string_view text) {
    return XXH3_64bits(text.data(), text.size());
}

std::uint64_t content_number(std::span<const std::byte> bytes) {
    return XXH3_64bits(bytes.data(), bytes.size());
}

}  // namespace jevrin
