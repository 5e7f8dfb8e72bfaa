// Drawing with gnuplot, started as a program.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

// Foreign text as a gnuplot string: nothing in it can become code. Characters that no font of this machine
// has become question marks.
std::string gnuplot_string(std::string_view text);

// Draws a script into a file: PNG or SVG by its ending, of this size in pixels. The script must not set the
// terminal or the output. The file is written whole or not at all. InputError for another ending, WorkError
// when gnuplot is missing or refuses.
void draw_figure(const std::string& script, const std::filesystem::path& file, int width, int height);

}  // namespace jevrin::inline v1
