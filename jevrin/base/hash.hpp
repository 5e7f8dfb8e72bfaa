// Content hashes (XXH3, 128 bits): names for content, not protection against forgery.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

namespace jevrin {

// 32 lower-case hexadecimal digits.
std::string content_hash(std::span<const std::byte> bytes);
std::string content_hash(std::string_view text);

// 64 bits of the same family, for keys of random streams.
std::uint64_t content_number(std::string_view text);

}  // namespace jevrin
