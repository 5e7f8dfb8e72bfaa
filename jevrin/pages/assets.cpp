#include "jevrin/pages/assets.hpp"

#include <fmt/format.h>

// The bytes of a file between two symbols. NAME_begin and NAME_end are in the data of this object.
#define JEVRIN_EMBED(NAME, FILE)                                                                  \
    asm(".section .rodata\n" #NAME "_begin:\n.incbin \"" FILE "\"\n" #NAME "_end:\n.previous\n"); \
    extern "C" const char NAME##_begin[] __attribute__((visibility("hidden")));                   \
    extern "C" const char NAME##_end[] __attribute__((visibility("hidden")))

JEVRIN_EMBED(jevrin_page_script, JEVRIN_WEB_OUTPUT "/page.js");
JEVRIN_EMBED(jevrin_page_style, JEVRIN_WEB_SOURCE "/page.css");
JEVRIN_EMBED(jevrin_page_icon, JEVRIN_WEB_SOURCE "/icon.svg");

namespace jevrin::inline v1 {
namespace {

std::string_view between(const char* begin, const char* end) {
    return {begin, static_cast<std::size_t>(end - begin)};
}

}  // namespace

std::optional<Asset> asset_at(std::string_view path) {
    if (path == "/page.js")
        return Asset{"text/javascript; charset=utf-8",
                     between(jevrin_page_script_begin, jevrin_page_script_end)};
    if (path == "/page.css")
        return Asset{"text/css; charset=utf-8", between(jevrin_page_style_begin, jevrin_page_style_end)};
    if (path == "/icon.svg")
        return Asset{"image/svg+xml", between(jevrin_page_icon_begin, jevrin_page_icon_end)};
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
