#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace jevrin::inline v1 {
namespace {

// The nearest of the 6x6x6 colours of the palette of 256; a middle grey for all greys.
int palette_index(const std::string& colour) {
    const long code = std::strtol(colour.c_str() + 1, nullptr, 16);
    const int parts[3] = {static_cast<int>(code >> 16) & 255, static_cast<int>(code >> 8) & 255,
                          static_cast<int>(code) & 255};
    if (parts[0] == parts[1] && parts[1] == parts[2]) return 244;
    constexpr int levels[6] = {0, 95, 135, 175, 215, 255};
    int index = 16;
    int weight = 36;
    for (const int part : parts) {
        int nearest = 0;
        for (int k = 1; k < 6; ++k)
            if (std::abs(levels[k] - part) < std::abs(levels[nearest] - part)) nearest = k;
        index += weight * nearest;
        weight /= 6;
    }
    return index;
}

// The character of a code point from U+0800 on, in UTF-8.
std::string utf8(unsigned code) {
    return {static_cast<char>(0xe0 | (code >> 12)), static_cast<char>(0x80 | ((code >> 6) & 0x3f)),
            static_cast<char>(0x80 | (code & 0x3f))};
}

}  // namespace

std::string coloured(const std::string& text, const std::string& colour) {
    return fmt::format("\x1b[38;5;{}m{}\x1b[0m", palette_index(colour), text);
}

std::string bar(double fraction, std::size_t width, bool rich) {
    const double cells = std::clamp(fraction, 0.0, 1.0) * static_cast<double>(width);
    if (!rich) return std::string(static_cast<std::size_t>(cells + 0.5), '#');
    const auto eighths = static_cast<std::size_t>(cells * 8 + 0.5);
    std::string text;
    for (std::size_t k = 0; k < eighths / 8; ++k) text += "\u2588";
    if (eighths % 8 > 0) text += utf8(0x2590 - static_cast<unsigned>(eighths % 8));
    return text;
}

DotCanvas::DotCanvas(std::size_t columns, std::size_t rows, bool rich)
    : columns_(columns),
      dots_across_(rich ? 2 * columns : columns),
      dots_down_(rich ? 4 * rows : rows),
      cells_(columns * rows),
      rich_(rich) {}

DotCanvas::Cell& DotCanvas::cell_of_dot(std::size_t column, std::size_t row) {
    return rich_ ? cells_[row / 4 * columns_ + column / 2] : cells_[row * columns_ + column];
}

void DotCanvas::put(double column, double row, const std::string& colour) {
    // Bits of the dots of a braille character, by row and column (Unicode, block U+2800).
    constexpr std::uint8_t bits[4][2] = {{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}};
    const auto x = static_cast<std::size_t>(std::lround(column));
    const auto y = static_cast<std::size_t>(std::lround(row));
    Cell& cell = cell_of_dot(x, y);
    if (!rich_) {
        if (cell.character == ' ') cell.character = '.';
        return;
    }
    cell.dots |= bits[y % 4][x % 2];
    if (std::find(cell.colours.begin(), cell.colours.end(), colour) == cell.colours.end())
        cell.colours.push_back(colour);
}

void DotCanvas::line(double x0, double y0, double x1, double y1, const std::string& colour, bool dashed) {
    constexpr long dash = 3;
    const double across = static_cast<double>(dots_across_ - 1);
    const double down = static_cast<double>(dots_down_ - 1);
    const double steps =
        std::max({1.0, std::ceil(std::abs(x1 - x0) * across), std::ceil(std::abs(y1 - y0) * down)});
    for (double s = 0.0; s <= steps; ++s) {
        const double column = (x0 + (x1 - x0) * s / steps) * across;
        if (dashed && rich_ && std::lround(column) / dash % 2 == 1) continue;
        put(column, (y0 + (y1 - y0) * s / steps) * down, colour);
    }
}

void DotCanvas::point(double x, double y, char marker, const std::string& colour) {
    const double column = x * static_cast<double>(dots_across_ - 1);
    const double row = y * static_cast<double>(dots_down_ - 1);
    if (rich_) return put(column, row, colour);
    char& character =
        cell_of_dot(static_cast<std::size_t>(std::lround(column)), static_cast<std::size_t>(std::lround(row)))
            .character;
    character = character == ' ' || character == '.' || character == marker ? marker : '*';
}

std::vector<std::string> DotCanvas::rows() const {
    std::vector<std::string> result;
    for (std::size_t begin = 0; begin < cells_.size(); begin += columns_) {
        std::string row;
        for (std::size_t k = begin; k < begin + columns_; ++k) {
            const Cell& cell = cells_[k];
            row += cell.dots == 0
                       ? std::string(1, cell.character)
                       : coloured(utf8(0x2800U + cell.dots), cell.colours[(k - begin) % cell.colours.size()]);
        }
        result.push_back(std::move(row));
    }
    return result;
}

}  // namespace jevrin::inline v1
