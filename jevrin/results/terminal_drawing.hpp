// Bars and curves drawn with characters: block and braille characters in colour, or plain ASCII.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// The text in a colour ("#rrggbb") of the terminal's palette of 256; greys become one that is visible on dark
// and on light.
std::string coloured(const std::string& text, const std::string& colour);

// A bar of this fraction of the width: with eighths of a block when rich, otherwise of '#'.
std::string bar(double fraction, std::size_t width, bool rich);

// Cells of characters, each of several dots (braille, 2x4, when rich) or one.
class DotCanvas {
  public:
    DotCanvas(std::size_t columns, std::size_t rows, bool rich);

    // A line between two points, x from 0 (left) to 1 and y from 0 (top) to 1, and a marker at its end.
    // Cells that several lines share alternate between their colours; in ASCII, markers of several series
    // become '*'.
    void line(double x0, double y0, double x1, double y1, const std::string& colour, bool dashed = false);
    void point(double x, double y, char marker, const std::string& colour);

    // Every row, as wide as the canvas.
    std::vector<std::string> rows() const;

  private:
    struct Cell {
        std::uint8_t dots = 0;
        char character = ' ';
        std::vector<std::string> colours = {};
    };
    Cell& cell_of_dot(std::size_t column, std::size_t row);
    void put(double column, double row, const std::string& colour);

    std::size_t columns_;
    std::size_t dots_across_;
    std::size_t dots_down_;
    std::vector<Cell> cells_;
    bool rich_;
};

}  // namespace jevrin::inline v1
