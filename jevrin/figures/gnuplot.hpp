// Drawing with gnuplot, started as a program.
#pragma once

#include <cstddef>
#include <filesystem>
#include <span>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

// Foreign text as a gnuplot string: nothing in it can become code. Characters that no font of this machine
// has become question marks.
std::string gnuplot_string(std::string_view text);

// The same for a label on an axis, in which gnuplot takes % for a format.
std::string gnuplot_tic(std::string_view text);

// Draws a script into a file: PNG or SVG by its ending, of this size in pixels. The script must not set the
// terminal or the output; data is what its last command reads from '-'. The file is written whole or not at
// all; a stream without an ending (base/files.hpp) gets a PNG. InputError for another ending, WorkError when
// gnuplot is missing, refuses or takes minutes.
void draw_figure(const std::string& script, const std::filesystem::path& file, int width, int height,
                 std::span<const std::byte> data = {});

}  // namespace jevrin::inline v1
