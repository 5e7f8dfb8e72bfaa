#include "jevrin/figures/sheet.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/images/shown_images.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t margin = 24;
constexpr std::int64_t title_height = 44;
constexpr std::int64_t caption_height = 24;
constexpr std::int64_t gap = 8;
constexpr std::int64_t page_width = 1280;

// The image scaled to fit a square, in the middle of white.
void place(const Image& image, std::int64_t left, std::int64_t top, std::int64_t side, Image& page) {
    const std::int64_t longer = std::max(image.width, image.height);
    const Image scaled = resize(image, std::max<std::int64_t>(1, image.width * side / longer),
                                std::max<std::int64_t>(1, image.height * side / longer));
    const std::int64_t x0 = left + (side - scaled.width) / 2;
    const std::int64_t y0 = top + (side - scaled.height) / 2;
    for (std::int64_t y = 0; y < scaled.height; ++y)
        std::copy_n(scaled.at(0, y), scaled.width * 3, page.at(x0, y0 + y));
}

// Draws the page's pixels with labels over them.
void draw_page(const Image& page, const std::string& labels, const std::filesystem::path& file) {
    const std::string script = fmt::format(R"(
set margins 0,0,0,0
unset border
unset tics
unset key
set xrange [0:{0}]
set yrange [0:{1}]
{2}
plot '-' binary array=({0},{1}) flipy format='%uchar' using 1:2:3 with rgbimage)",
                                           page.width, page.height, labels);
    draw_figure(script, file, static_cast<int>(page.width), static_cast<int>(page.height),
                std::as_bytes(std::span(page.pixels)));
}

Image white_page(std::int64_t height) {
    Image page(page_width, height);
    std::fill(page.pixels.begin(), page.pixels.end(), std::uint8_t{255});
    return page;
}

std::string page_label(const Image& page, const std::string& text, std::int64_t x, std::int64_t y, int size,
                       const char* colour = "#202020") {
    return fmt::format("set label {} at {},{} left front font 'DejaVu Sans,{}' textcolor rgb '{}'\n",
                       gnuplot_string(text), x, page.height - y, size, colour);
}

void fill_rectangle(Image& page, std::int64_t left, std::int64_t top, std::int64_t width, std::int64_t height,
                    const std::array<std::uint8_t, 3>& colour) {
    for (std::int64_t y = top; y < top + height; ++y)
        for (std::int64_t x = left; x < left + width; ++x)
            std::copy(colour.begin(), colour.end(), page.at(x, y));
}

}  // namespace

void draw_sheet(const std::vector<SheetRow>& rows, const std::string& title,
                const std::filesystem::path& file) {
    std::size_t columns = 1;
    for (const SheetRow& row : rows) columns = std::max(columns, row.images.size());
    const auto wide = static_cast<std::int64_t>(columns);
    const std::int64_t side = std::min<std::int64_t>(160, (page_width - 2 * margin + gap) / wide - gap);
    const std::int64_t row_height = caption_height + side + gap;
    Image page = white_page(title_height + static_cast<std::int64_t>(rows.size()) * row_height + margin);
    std::string labels = page_label(page, title, margin, title_height / 2, 15);
    for (std::size_t r = 0; r < rows.size(); ++r) {
        const std::int64_t top = title_height + static_cast<std::int64_t>(r) * row_height;
        labels += page_label(page, rows[r].label, margin, top + caption_height / 2, 12);
        for (std::size_t c = 0; c < rows[r].images.size(); ++c)
            place(rows[r].images[c], margin + static_cast<std::int64_t>(c) * (side + gap),
                  top + caption_height, side, page);
    }
    draw_page(page, labels, file);
}

std::vector<std::filesystem::path> draw_pages(std::size_t count,
                                              const std::function<CaptionedImage(std::size_t)>& image,
                                              const std::string& title, const std::filesystem::path& file) {
    constexpr std::size_t columns = 8;
    constexpr std::size_t page_images = 64;
    constexpr std::int64_t frame = 3;
    constexpr std::int64_t line_height = 15;
    constexpr std::int64_t lines = 3;
    constexpr std::size_t line_width = 23;
    constexpr std::array<std::uint8_t, 3> wrong = {0xd5, 0x5e, 0x00};
    constexpr std::array<std::uint8_t, 3> correct = {0x9d, 0xb8, 0xc6};
    constexpr std::int64_t side = (page_width - 2 * margin + gap) / static_cast<std::int64_t>(columns) - gap;
    constexpr std::int64_t row_height = side + lines * line_height + 2 * gap;
    const std::size_t pages = std::max<std::size_t>(1, (count + page_images - 1) / page_images);
    std::vector<std::filesystem::path> files;
    for (std::size_t p = 0; p < pages; ++p) {
        const std::size_t first = p * page_images;
        const std::size_t here = std::min(page_images, count - first);
        const auto rows = static_cast<std::int64_t>((here + columns - 1) / columns);
        Image page = white_page(title_height + std::max<std::int64_t>(1, rows) * row_height + margin);
        const std::string of_pages = pages > 1 ? fmt::format(", page {} of {}", p + 1, pages) : "";
        std::string labels = page_label(page, title + of_pages, margin, title_height / 2, 15);
        for (std::size_t k = 0; k < here; ++k) {
            const CaptionedImage shown = image(first + k);
            const std::int64_t left = margin + static_cast<std::int64_t>(k % columns) * (side + gap);
            const std::int64_t top = title_height + static_cast<std::int64_t>(k / columns) * row_height;
            fill_rectangle(page, left, top, side, side, shown.wrong ? wrong : correct);
            fill_rectangle(page, left + frame, top + frame, side - 2 * frame, side - 2 * frame,
                           {255, 255, 255});
            place(shown.image, left + frame, top + frame, side - 2 * frame, page);
            for (std::size_t line = 0; line < shown.lines.size(); ++line)
                labels += page_label(page, shortened_text(shown.lines[line], line_width), left,
                                     top + side + gap + static_cast<std::int64_t>(line) * line_height, 9,
                                     line == 0 ? "#202020" : "#606060");
        }
        files.push_back(p == 0 ? file
                               : file.parent_path() / fmt::format("{}-{}{}", file.stem().string(), p + 1,
                                                                  file.extension().string()));
        draw_page(page, labels, files.back());
    }
    return files;
}

namespace {

constexpr std::size_t most_rows = 40;

// The classes that a sheet has room for.
std::vector<std::vector<std::size_t>> sample(const ImageSet& set, std::size_t per_class, std::uint64_t seed) {
    auto chosen = sample_by_class(set, per_class, seed);
    chosen.resize(std::min(chosen.size(), most_rows));
    return chosen;
}

std::string row_label(const ImageSet& set, const std::vector<std::int64_t>& counts, std::size_t label) {
    std::string text = fmt::format("{} ({})", printable(set.classes[label]), counts[label]);
    if (label + 1 == most_rows && set.classes.size() > most_rows)
        text += fmt::format(", and {} more classes", set.classes.size() - most_rows);
    return text;
}

}  // namespace

std::vector<std::filesystem::path> draw_items(const StudyRecord& study, const std::vector<ShownItem>& items,
                                              std::size_t most, const std::string& title,
                                              const std::filesystem::path& file) {
    std::vector<ItemRecord> records;
    for (const ShownItem& item : items) records.push_back(item.item);
    const ImageSet set = items_of(study, records);
    return draw_pages(
        std::min(most, items.size()),
        [&](std::size_t k) {
            return CaptionedImage{
                .image = load_image(set, set.items[k]), .lines = items[k].lines, .wrong = items[k].wrong};
        },
        title, file);
}

std::vector<SheetRow> sample_rows(const ImageSet& set, std::size_t images_per_class, std::uint64_t seed) {
    const auto chosen = sample(set, images_per_class, seed);
    const std::vector<std::int64_t> counts = class_counts(set);
    std::vector<SheetRow> rows(chosen.size());
    for (std::size_t c = 0; c < rows.size(); ++c) {
        rows[c].label = row_label(set, counts, c);
        for (const std::size_t i : chosen[c]) rows[c].images.push_back(load_image(set, set.items[i]));
    }
    return rows;
}

std::vector<SheetRow> sample_rows_before_and_after(const ImageSet& set, std::size_t images_per_class,
                                                   std::uint64_t seed, const Fitting& fitting,
                                                   const Augmentation& augmentation) {
    const auto chosen = sample(set, images_per_class, seed);
    std::vector<std::size_t> order;
    for (const auto& items : chosen) order.insert(order.end(), items.begin(), items.end());
    const std::vector<Image> trained = images_in_training(set, order, fitting, augmentation, seed);
    const std::vector<std::int64_t> counts = class_counts(set);
    std::vector<SheetRow> rows(chosen.size());
    std::size_t next = 0;
    for (std::size_t c = 0; c < rows.size(); ++c) {
        rows[c].label = row_label(set, counts, c);
        for (const std::size_t i : chosen[c]) {
            rows[c].images.push_back(load_image(set, set.items[i]));
            rows[c].images.push_back(trained[next++]);
        }
    }
    return rows;
}

}  // namespace jevrin::inline v1
