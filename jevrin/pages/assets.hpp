// The files of the page, which are part of the program.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

struct Asset {
    const char* type;  // of its content, as HTTP has it
    std::string_view content;
};
// "/page.js", "/page.css", "/icon.svg"; nothing at any other path.
std::optional<Asset> asset_at(std::string_view path);

// The document that a server delivers, with the token that changes need.
std::string page_html(std::string_view token);

}  // namespace jevrin::inline v1
