#include "jevrin/study/rank_message.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>

#include <cstdlib>
#include <utility>

namespace jevrin::inline v1 {

// "LENGTH\n", LENGTH bytes of JSON, the body.
std::string packed(const Json& head, std::string_view body) {
    const std::string text = json_text(head);
    std::string bytes = fmt::format("{}\n", text.size());
    bytes.reserve(bytes.size() + text.size() + body.size());
    bytes += text;
    bytes += body;
    return bytes;
}

RankMessage unpacked(Ranks::Bytes bytes) {
    const std::size_t line = bytes.bytes.find('\n');
    const std::size_t length = std::strtoull(bytes.bytes.c_str(), nullptr, 10);
    if (line == std::string::npos || length > bytes.bytes.size() - line - 1)
        throw WorkError(fmt::format("rank {} sent what is no message", bytes.from));
    RankMessage message{.from = bytes.from,
                        .head = parse_json(std::string_view(bytes.bytes).substr(line + 1, length))};
    message.body = std::move(bytes.bytes);
    message.body.erase(0, line + 1 + length);
    return message;
}

}  // namespace jevrin::inline v1
