// What it costs to score predictions and to draw what they say.
#include "embedded.hpp"
#include "figures.hpp"
#include "glaze.hpp"
#include "measure.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/training/classifier.hpp"

#include <unistd.h>

#include <filesystem>

namespace {

using namespace jevrin;

// Probabilities that are correct in about half of the cases.
PredictionTable made_up(std::size_t items, std::size_t classes) {
    PredictionTable table{.classes = classes, .labels = {}, .probabilities = {}};
    table.probabilities.resize(items * classes);
    for (std::size_t i = 0; i < items; ++i) {
        RandomStream random({.seed = 1, .purpose = Purpose::sample, .item = i});
        const std::size_t label = random.below(static_cast<std::uint32_t>(classes));
        table.labels.push_back(label);
        float* row = table.probabilities.data() + i * classes;
        float sum = 0.0F;
        for (std::size_t c = 0; c < classes; ++c) sum += row[c] = static_cast<float>(random.uniform());
        row[label] += sum * 0.001F;
        sum *= 1.001F;
        for (std::size_t c = 0; c < classes; ++c) row[c] /= sum;
    }
    return table;
}

std::filesystem::path scratch_file(const char* name) {
    return std::filesystem::temp_directory_path() / fmt::format("jevrin-bench-{}-{}", ::getpid(), name);
}

// 100,000 predictions of 1,000 classes: overall and class by class; held against reading them once.
void run_scores(benchmark::State& state) {
    const PredictionTable table = made_up(100'000, 1'000);
    const std::int64_t before = resident_memory();
    std::int64_t most = 0;
    bench::measure_memory(state, 2, static_cast<double>(table.probabilities.size() * sizeof(float)), [&] {
        const Evaluation evaluation = evaluate(table, {.k = 5});
        benchmark::DoNotOptimize(evaluation.scores.correct + evaluation.classes.front().support);
        most = std::max(most, resident_memory());
    });
    state.counters["megabytes_beyond"] = static_cast<double>(most - before) / 1e6;
}

// The matrix of 200 classes, drawn.
void run_matrix(benchmark::State& state) {
    constexpr std::size_t classes = 200;
    ConfusionMatrix matrix(classes);
    std::vector<std::string> names;
    RandomStream random({.seed = 1, .purpose = Purpose::sample});
    for (std::size_t c = 0; c < classes; ++c) names.push_back(fmt::format("class {}", c));
    for (std::uint32_t i = 0; i < 10'000; ++i) {
        const std::size_t label = i % classes;
        matrix.add(label, random.below(3) == 0 ? (label + random.below(5) * 37) % classes : label);
    }
    const std::filesystem::path file = scratch_file("matrix.png");
    bench::measure_rounds(
        state, 2, [&] { draw_confusion(matrix, names, "200 classes", file); }, [](double, double) {});
    std::filesystem::remove(file);
}

// A page of 64 images of 256 pixels, read from files and drawn.
void run_sheet(benchmark::State& state) {
    constexpr std::int64_t side = 256;
    const std::filesystem::path source = scratch_file("image.jpg");
    Image image(side, side);
    RandomStream random({.seed = 1, .purpose = Purpose::sample});
    for (std::uint8_t& value : image.pixels) value = static_cast<std::uint8_t>(random.below(256));
    write_file(source, encode_jpeg(image, 90));
    const std::filesystem::path file = scratch_file("sheet.png");
    bench::measure_rounds(
        state, 2,
        [&] {
            draw_pages(
                64,
                [&](std::size_t k) {
                    return CaptionedImage{
                        .image = load_image(source),
                        .lines = {"0.93 pinholes", "0.04 blisters (label)", fmt::format("tile-{:04}.png", k)},
                        .wrong = true};
                },
                "64 images", file);
        },
        [](double, double) {});
    std::filesystem::remove(file);
    std::filesystem::remove(source);
}

// One image of the demo, from the model file to the answer: all that `classify` does but start a process.
void run_classify(benchmark::State& state) {
    const std::filesystem::path model = scratch_file("model.onnx");
    const std::filesystem::path tile = scratch_file("tile.jpg");
    write_file(model, demo::backbone_model());
    write_file(tile, demo::draw_tile(demo::plan_tiles(demo::default_seed)[0], demo::default_seed));
    bench::measure_rounds(
        state, 2,
        [&] {
            Recogniser recogniser(load_classifier(model));
            const auto image = load_fitted(tile, recogniser.classifier().preparation.fitting);
            benchmark::DoNotOptimize(recogniser.recognise({&image, 1}).probabilities.front());
        },
        [](double, double) {});
    std::filesystem::remove(model);
    std::filesystem::remove(tile);
}

}  // namespace

int main(int argc, char** argv) {
    using jevrin::bench::add_figure;
    add_figure("scores/100k_1000", 5, run_scores);
    add_figure("figures/matrix_200", 5, run_matrix);
    add_figure("figures/sheet_64", 5, run_sheet);
    add_figure("classify/first_image", 5, run_classify);
    return jevrin::bench::run(argc, argv);
}
