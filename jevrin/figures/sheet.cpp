#include "jevrin/figures/sheet.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

namespace jevrin {
namespace {

constexpr std::int64_t margin = 24;
constexpr std::int64_t title_height = 44;
constexpr std::int64_t caption_height = 24;
constexpr std::int64_t gap = 8;
constexpr std::int64_t page_width = 1280;

// The picture scaled to fit a square, in the middle of white.
void place(const Image& picture, std::int64_t left, std::int64_t top, std::int64_t side, Image& page) {
    const std::int64_t longer = std::max(picture.width, picture.height);
    const Image scaled = resize(picture, std::max<std::int64_t>(1, picture.width * side / longer),
                                std::max<std::int64_t>(1, picture.height * side / longer));
    const std::int64_t x0 = left + (side - scaled.width) / 2;
    const std::int64_t y0 = top + (side - scaled.height) / 2;
    for (std::int64_t y = 0; y < scaled.height; ++y)
        std::copy_n(scaled.at(0, y), scaled.width * 3, page.at(x0, y0 + y));
}

}  // namespace

void draw_sheet(const std::vector<SheetRow>& rows, const std::string& title,
                const std::filesystem::path& file) {
    std::size_t columns = 1;
    for (const SheetRow& row : rows) columns = std::max(columns, row.pictures.size());
    const auto wide = static_cast<std::int64_t>(columns);
    const std::int64_t side = std::min<std::int64_t>(160, (page_width - 2 * margin + gap) / wide - gap);
    const std::int64_t row_height = caption_height + side + gap;
    const std::int64_t height = title_height + static_cast<std::int64_t>(rows.size()) * row_height + margin;
    Image page(page_width, height);
    std::fill(page.pixels.begin(), page.pixels.end(), std::uint8_t{255});
    std::string labels;
    const auto add_label = [&](const std::string& text, std::int64_t y, int size) {
        labels += fmt::format("set label {} at {},{} left front font 'DejaVu Sans,{}'\n",
                              gnuplot_string(text), margin, height - y, size);
    };
    add_label(title, title_height / 2, 15);
    for (std::size_t r = 0; r < rows.size(); ++r) {
        const std::int64_t top = title_height + static_cast<std::int64_t>(r) * row_height;
        add_label(rows[r].label, top + caption_height / 2, 12);
        for (std::size_t c = 0; c < rows[r].pictures.size(); ++c)
            place(rows[r].pictures[c], margin + static_cast<std::int64_t>(c) * (side + gap),
                  top + caption_height, side, page);
    }
    if (file.has_parent_path()) make_directory(file.parent_path());
    const std::filesystem::path pixels = file.string() + fmt::format(".{}.pixels", ::getpid());
    write_file(pixels, std::as_bytes(std::span(page.pixels)));
    const std::string script = fmt::format(R"(
set margins 0,0,0,0
unset border
unset tics
unset key
set xrange [0:{0}]
set yrange [0:{1}]
{2}
plot {3} binary array=({0},{1}) flipy format='%uchar' using 1:2:3 with rgbimage
)",
                                           page_width, height, labels, gnuplot_string(pixels.string()));
    std::error_code ignored;
    try {
        draw_figure(script, file, static_cast<int>(page_width), static_cast<int>(height));
    } catch (const Error&) {
        std::filesystem::remove(pixels, ignored);
        throw;
    }
    std::filesystem::remove(pixels, ignored);
}

namespace {

constexpr std::size_t most_rows = 40;

// By class: the items of a random sample.
std::vector<std::vector<std::size_t>> sample(const ImageSet& set, std::size_t per_class, std::uint64_t seed) {
    std::vector<std::vector<std::size_t>> chosen(set.classes.size());
    for (const std::int64_t i :
         random_order(static_cast<std::int64_t>(set.items.size()), seed, Purpose::sample, 0)) {
        auto& row = chosen[set.items[static_cast<std::size_t>(i)].label];
        if (row.size() < per_class) row.push_back(static_cast<std::size_t>(i));
    }
    chosen.resize(std::min(chosen.size(), most_rows));
    return chosen;
}

std::string row_label(const ImageSet& set, const std::vector<std::int64_t>& counts, std::size_t label) {
    std::string text = fmt::format("{} ({})", printable(set.classes[label]), counts[label]);
    if (label + 1 == most_rows && set.classes.size() > most_rows)
        text += fmt::format(", and {} more classes", set.classes.size() - most_rows);
    return text;
}

Image to_image(std::span<const float> values, const Fitting& fitting) {
    Image image(fitting.size, fitting.size);
    for (std::size_t i = 0; i < image.pixels.size(); ++i) {
        const float value = values[fitting.channels == 1 ? i / 3 : i] * 255.0F + 0.5F;
        image.pixels[i] = static_cast<std::uint8_t>(std::clamp(value, 0.0F, 255.0F));
    }
    return image;
}

}  // namespace

std::vector<SheetRow> sample_rows(const ImageSet& set, std::size_t pictures_per_class, std::uint64_t seed) {
    const auto chosen = sample(set, pictures_per_class, seed);
    const std::vector<std::int64_t> counts = class_counts(set);
    std::vector<SheetRow> rows(chosen.size());
    for (std::size_t c = 0; c < rows.size(); ++c) {
        rows[c].label = row_label(set, counts, c);
        for (const std::size_t i : chosen[c]) rows[c].pictures.push_back(load_image(set, set.items[i]));
    }
    return rows;
}

std::vector<SheetRow> sample_rows_before_and_after(const ImageSet& set, std::size_t pictures_per_class,
                                                   std::uint64_t seed, const Fitting& fitting,
                                                   const Augmentation& augmentation) {
    const auto chosen = sample(set, pictures_per_class, seed);
    std::vector<std::int64_t> order;
    for (const auto& items : chosen) order.insert(order.end(), items.begin(), items.end());
    std::vector<std::size_t> labels;
    for (const Item& item : set.items) labels.push_back(item.label);
    // Numbers from 0 to 1, as every scaling starts from.
    const ScalingTable unit(Scaling{}, fitting.channels);
    const PreparedImages images(set, fitting);
    BatchQueue queue(
        images, unit,
        {.size = std::ssize(order), .augmentation = augmentation, .key = {.seed = seed, .epoch = 1}}, order,
        labels);
    const Batch* batch = queue.next();
    const std::vector<std::int64_t> counts = class_counts(set);
    const auto values = static_cast<std::size_t>(fitting.values());
    std::vector<SheetRow> rows(chosen.size());
    std::size_t next = 0;
    for (std::size_t c = 0; c < rows.size(); ++c) {
        rows[c].label = row_label(set, counts, c);
        for (const std::size_t i : chosen[c]) {
            rows[c].pictures.push_back(load_image(set, set.items[i]));
            rows[c].pictures.push_back(
                to_image(std::span(batch->pictures).subspan(next++ * values, values), fitting));
        }
    }
    return rows;
}

}  // namespace jevrin
