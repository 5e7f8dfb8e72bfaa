// Content hashes (XXH3, 128 bits): names for content, not protection against forgery.
#pragma once

#include <compare>
#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

struct ContentHash {
    std::uint64_t high = 0;
    std::uint64_t low = 0;

    auto operator<=>(const ContentHash&) const = default;
    // 32 lower-case hexadecimal digits.
    std::string text() const;
    // Nothing when the text is not that.
    static std::optional<ContentHash> from_text(std::string_view text);
};

// XXH3, 128 bits (Collet 2019): equal for equal bytes on every machine.
ContentHash hash_of(std::span<const std::byte> bytes);

// The text of the hash.
std::string content_hash(std::span<const std::byte> bytes);
std::string content_hash(std::string_view text);
// Of a file, read in pieces. InputError when it cannot be read.
std::string content_hash_of_file(const std::filesystem::path& path);

// The hash of bytes that come in pieces.
class ContentHasher {
  public:
    ContentHasher();
    ~ContentHasher();
    ContentHasher(const ContentHasher&) = delete;
    ContentHasher& operator=(const ContentHasher&) = delete;

    void add(std::span<const std::byte> bytes);
    ContentHash hash() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// 64 bits of the same family, for keys of random streams and as checksums.
std::uint64_t content_number(std::string_view text);
std::uint64_t content_number(std::span<const std::byte> bytes);

}  // namespace jevrin::inline v1

template <>
struct std::hash<jevrin::ContentHash> {
    std::size_t operator()(const jevrin::ContentHash& content) const noexcept { return content.low; }
};
