// A network as a figure: each layer in its place, in columns that fit a page.
#include "jevrin/figures/network_figure.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

#include <cstdlib>
#include <map>

namespace jevrin {
namespace {

using test::TemporaryDirectory;
using testing::HasSubstr;

std::vector<LayerRow> layers_in_stages(std::size_t count, std::size_t per_stage) {
    std::vector<LayerRow> layers;
    for (std::size_t i = 0; i < count; ++i)
        layers.push_back({.name = fmt::format("layer{:03}", i),
                          .stage = fmt::format("stage{}", i / per_stage),
                          .operators = "dense",
                          .shape = {8, 8, 4},
                          .parameters = 123'456,
                          .trains = i > count / 2,
                          .reads = i == 0 ? std::vector<std::size_t>{} : std::vector<std::size_t>{i - 1}});
    return layers;
}

// Where the name of each layer stands in the image, from the left and from the top.
std::map<std::string, std::pair<double, double>> places_in(const std::string& svg) {
    std::map<std::string, std::pair<double, double>> places;
    const std::string opening = "<text>layer";
    for (std::size_t at = svg.find(opening); at != std::string::npos; at = svg.find(opening, at + 1)) {
        const std::size_t move = svg.rfind("translate(", at) + 10;
        char* end = nullptr;
        const double x = std::strtod(svg.c_str() + move, &end);
        places[svg.substr(at + 6, 8)] = {x, std::strtod(end + 1, nullptr)};
    }
    return places;
}

TEST(NetworkFigure, LayersStandInOrderInColumnsOfAboutEqualLength) {
    const TemporaryDirectory directory;
    // Stages of a few layers, and one stage of all.
    for (const std::size_t per_stage : {6U, 1000U})
        for (const std::size_t count : {1U, 5U, 17U, 18U, 40U, 100U}) {
            draw_network(layers_in_stages(count, per_stage), "a network", directory / "n.svg");
            const auto places = places_in(read_text(directory / "n.svg"));
            ASSERT_EQ(places.size(), count);
            std::map<double, std::size_t> columns;
            double last_x = 0.0;
            double last_y = 0.0;
            for (const auto& [name, place] : places) {
                ++columns[place.first];
                EXPECT_TRUE(place.first > last_x || (place.first == last_x && place.second > last_y)) << name;
                last_x = place.first;
                last_y = place.second;
            }
            // Seventeen layers fill a column of a page; it may hold a few more where a stage ends.
            EXPECT_EQ(columns.size() > 1, count > 17) << count;
            for (const auto& [x, rows] : columns) EXPECT_LE(rows, 20U) << count;
            EXPECT_LE(columns.size(), (count + 16) / 17 + 1) << count;
        }
}

TEST(NetworkFigure, SaysWhatEachLayerIsAndWhetherItTrains) {
    const TemporaryDirectory directory;
    std::vector<LayerRow> layers = layers_in_stages(3, 3);
    layers[2].operators = "convolution 3x3 /2";
    layers[2].reads = {0, 1};
    layers[0].name = "`evil`\n' \"name\"";
    draw_network(layers, "a title", directory / "n.svg");
    const std::string svg = read_text(directory / "n.svg");
    EXPECT_THAT(svg, testing::AllOf(HasSubstr("a title"), HasSubstr("convolution 3x3 /2"), HasSubstr("8x8x4"),
                                    HasSubstr("123 k parameters"), HasSubstr("evil")));
    // One colour for what trains, another for what is frozen.
    EXPECT_THAT(svg, testing::AllOf(HasSubstr("rgb(255, 216, 168)"), HasSubstr("rgb(223, 228, 234)")));
    layers[2].trains = false;
    draw_network(layers, "a title", directory / "n.svg");
    EXPECT_THAT(read_text(directory / "n.svg"), testing::Not(HasSubstr("rgb(255, 216, 168)")));
}

}  // namespace
}  // namespace jevrin
