// Files whose bytes are part of the library.
//
//     JEVRIN_EMBED(page_style, SOURCE "/page.css");      // outside any namespace, in one source file
//     std::string_view text = JEVRIN_EMBEDDED(page_style);
#pragma once

#include <cstddef>
#include <string_view>

// NAME_begin and NAME_end are in the data of this object.
#define JEVRIN_EMBED(NAME, FILE)                                                                  \
    asm(".section .rodata\n" #NAME "_begin:\n.incbin \"" FILE "\"\n" #NAME "_end:\n.previous\n"); \
    extern "C" const char NAME##_begin[] __attribute__((visibility("hidden")));                   \
    extern "C" const char NAME##_end[] __attribute__((visibility("hidden")))

#define JEVRIN_EMBEDDED(NAME) \
    std::string_view(NAME##_begin, static_cast<std::size_t>(NAME##_end - NAME##_begin))
