#include "jevrin/pages/assets.hpp"

#include "jevrin/base/embedded_file.hpp"

#include <fmt/format.h>

JEVRIN_EMBED(jevrin_page_script, JEVRIN_WEB_OUTPUT "/page.js");
JEVRIN_EMBED(jevrin_page_style, JEVRIN_WEB_SOURCE "/page.css");
JEVRIN_EMBED(jevrin_page_icon, JEVRIN_WEB_SOURCE "/icon.svg");

namespace jevrin::inline v1 {
std::optional<Asset> asset_at(std::string_view path) {
    if (path == "/page.js")
        return Asset{"text/javascript; charset=utf-8", JEVRIN_EMBEDDED(jevrin_page_script)};
    if (path == "/page.css") return Asset{"text/css; charset=utf-8", JEVRIN_EMBEDDED(jevrin_page_style)};
    if (path == "/icon.svg") return Asset{"image/svg+xml", JEVRIN_EMBEDDED(jevrin_page_icon)};
    return std::nullopt;
}

std::string page_html(std::string_view token) {
    return fmt::format(R"(<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<meta name="color-scheme" content="light dark">
<meta name="jevrin-token" content="{}">
<title>Jevrin</title>
<link rel="icon" href="icon.svg">
<link rel="stylesheet" href="page.css">
<script src="page.js" defer></script>
<body><noscript>This page needs JavaScript.</noscript></body>
</html>
)",
                       token);
}

}  // namespace jevrin::inline v1
