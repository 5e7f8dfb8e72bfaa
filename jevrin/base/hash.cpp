#include "jevrin/base/hash.hpp"

#include <fmt/format.h>
#include <xxhash.h>

namespace jevrin {

std::string content_hash(std::span<const std::byte> bytes) {
    const XXH128_hash_t hash = XXH3_128bits(bytes.data(), bytes.size());
    return fmt::format("{:016x}{:016x}", hash.high64, hash.low64);
}

std::string content_hash(std::string_view text) {
    return content_hash(std::as_bytes(std::span(text.data(), text.size())));
}

std::uint64_t content_number(std::string_view text) {
    return XXH3_64bits(text.data(), text.size());
}

}  // namespace jevrin
