// What ranks say to each other: a small JSON document that says what it is about, and bytes.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/study/ranks.hpp"

#include <cstddef>
#include <span>
#include <string>

namespace jevrin::inline v1 {

struct RankMessage {
    int from = 0;
    Json head;
    std::string body;
};

std::string packed(const Json& head, std::string_view body = {});
// WorkError when the bytes are no message.
RankMessage unpacked(Ranks::Bytes bytes);

inline std::string_view as_text(std::span<const std::byte> bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}
inline std::span<const std::byte> as_bytes(std::string_view text) {
    return std::as_bytes(std::span(text.data(), text.size()));
}

}  // namespace jevrin::inline v1
