// Image sets: decoding and resizing against the JPEG library's own decoding, batches and augmentation against
// the training steps they feed, and listing, comparing and dividing a million items.
#include "figures.hpp"
#include "measure.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_store.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/survey.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser.hpp"

#include <turbojpeg.h>
#include <unistd.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <functional>
#include <numeric>
#include <optional>

namespace {

using namespace jevrin;

constexpr int threads_used = 2;

// Waves, steps and noise: about as hard to decode as a photograph.
Image made_up_picture(std::int64_t width, std::int64_t height, std::uint64_t seed) {
    RandomStream random({seed, Purpose::sample, 0, 0});
    const double slant = random.uniform(0.02, 0.1);
    Image image(width, height);
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x) {
            const double wave =
                50.0 * std::sin(slant * static_cast<double>(x + 2 * y)) + ((x / 23 + y / 31) % 3) * 30.0;
            const double grain = 8.0 * (random.uniform() - 0.5);
            for (int c = 0; c < 3; ++c)
                image.at(x, y)[c] =
                    static_cast<std::uint8_t>(std::clamp(90.0 + wave + grain + 15.0 * c, 0.0, 255.0));
        }
    return image;
}

void decode_with_library(const std::vector<std::byte>& file) {
    tjhandle turbo = tjInitDecompress();
    int width = 0;
    int height = 0;
    int subsampling = 0;
    int colours = 0;
    const auto* bytes = reinterpret_cast<const unsigned char*>(file.data());
    tjDecompressHeader3(turbo, bytes, file.size(), &width, &height, &subsampling, &colours);
    std::vector<unsigned char> pixels(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 3);
    tjDecompress2(turbo, bytes, file.size(), pixels.data(), width, 0, height, TJPF_RGB, TJFLAG_ACCURATEDCT);
    benchmark::DoNotOptimize(pixels.data());
    tjDestroy(turbo);
}

double seconds_of(const std::function<void()>& work) {
    const auto begin = std::chrono::steady_clock::now();
    work();
    return bench::seconds_since(begin);
}

// The library's time for decoding the files whole, over ours for decoding and fitting them; in turn.
void run_decoding(benchmark::State& state, std::int64_t width, std::int64_t height, std::int64_t size) {
    set_threads(threads_used);
    std::vector<std::vector<std::byte>> files;
    for (std::uint64_t i = 0; i < 32; ++i)
        files.push_back(encode_jpeg(made_up_picture(width, height, i), 90));
    const auto count = std::ssize(files);
    const Fitting fitting{.size = size, .fit = Fit::crop};
    const auto library = [&] {
        parallel_for(count, [&](std::int64_t i) { decode_with_library(files[static_cast<std::size_t>(i)]); });
    };
    const auto ours = [&] {
        parallel_for(count, [&](std::int64_t i) {
            benchmark::DoNotOptimize(fit_image(files[static_cast<std::size_t>(i)], fitting).data());
        });
    };
    ours();
    std::vector<double> ratios;
    double before = seconds_of(library);
    for (auto _ : state) {
        const double own = seconds_of(ours);
        const double after = seconds_of(library);
        state.SetIterationTime(own);
        ratios.push_back((before + after) / 2 / own);
        before = after;
    }
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = threads_used;
}

// The small residual network of the other benchmarks, with a warm store of images to feed it.
class WarmTraining {
  public:
    static constexpr std::int64_t images = 1024;
    static constexpr std::int64_t batch = 128;

    WarmTraining()
        : store_(std::nullopt, fitting_, images),
          network_(build()),
          pass_(network_, batch),
          optimiser_({}, pass_.parameters()) {
        std::vector<std::uint8_t> pixels(static_cast<std::size_t>(fitting_.values()));
        for (std::int64_t i = 0; i < images; ++i) {
            Item item;
            item.content = {1, static_cast<std::uint64_t>(i)};
            RandomStream random({1, Purpose::sample, 0, static_cast<std::uint64_t>(i)});
            for (std::uint8_t& value : pixels) value = static_cast<std::uint8_t>(random.bits());
            store_.put(item.content, pixels);
            set_.items.push_back(item);
            labels_.push_back(static_cast<std::size_t>(i % 10));
        }
        images_.emplace(set_, fitting_, &store_);
        order_.resize(images);
        std::iota(order_.begin(), order_.end(), std::int64_t{0});
        gradient_.resize(batch * 10);
    }

    void step(const Batch& prepared) {
        const auto logits = pass_.forward(batch, prepared.images, {1, 1, prepared.items.data()});
        cross_entropy(10, logits, prepared.targets, gradient_);
        pass_.backward(batch, gradient_);
        optimiser_.step(pass_.parameters(), {.learning_rate = 0.001});
    }
    // Trains one epoch, or only prepares its batches.
    void epoch(const Augmentation& augmentation, bool train) {
        BatchQueue queue(*images_, scaling_,
                         {.size = batch, .augmentation = augmentation, .key = {1, ++epochs_}}, order_,
                         labels_);
        while (const Batch* prepared = queue.next())
            if (train) step(*prepared);
    }

  private:
    static Network build() {
        Network network =
            residual_backbone({.widths = {16, 32, 64}, .blocks = {2}, .stem_stride = 1}, {32, 32, 3});
        append_head(network, {}, 10);
        initialise(network, 0, 1);
        return network;
    }

    Fitting fitting_{.size = 32};
    ImageSet set_;
    ImageStore store_;
    std::optional<PreparedImages> images_;
    ScalingTable scaling_{Scaling{}, 3};
    std::vector<std::int64_t> order_;
    std::vector<std::size_t> labels_;
    std::vector<float> gradient_;
    Network network_;
    TrainingPass pass_;
    Optimiser optimiser_;
    std::uint32_t epochs_ = 0;
};

// The time of preparing an epoch's batches over that of training on them.
void run_warm_batches(benchmark::State& state) {
    set_threads(threads_used);
    WarmTraining training;
    training.epoch({}, true);
    std::vector<double> ratios;
    for (auto _ : state) {
        const double preparing = seconds_of([&] { training.epoch({}, false); });
        const double whole = seconds_of([&] { training.epoch({}, true); });
        state.SetIterationTime(preparing);
        ratios.push_back(preparing / whole);
    }
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = threads_used;
}

// How much longer an epoch takes with augmentation than without, in turn.
void run_augmentation(benchmark::State& state, const std::string& strength) {
    set_threads(threads_used);
    WarmTraining training;
    const Augmentation augmentation = augmentation_of_strength(strength);
    training.epoch(augmentation, true);
    std::vector<double> ratios;
    double before = seconds_of([&] { training.epoch({}, true); });
    for (auto _ : state) {
        const double augmented = seconds_of([&] { training.epoch(augmentation, true); });
        const double after = seconds_of([&] { training.epoch({}, true); });
        state.SetIterationTime(augmented);
        ratios.push_back(augmented / ((before + after) / 2) - 1.0);
        before = after;
    }
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = threads_used;
}

// Seconds and memory of listing a generated index; the ratio is to the five seconds that it may take.
void run_listing(benchmark::State& state) {
    set_threads(threads_used);
    constexpr int rows = 1'000'000;
    const std::filesystem::path file =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-index-{}.csv", ::getpid());
    {
        std::string text = "path,label,part,weight,group\n";
        for (int i = 0; i < rows; ++i)
            text += fmt::format("images/{:03}/tile-{:07}.jpg,class {},{},1,kiln {}\n", i % 997, i, i % 100,
                                i % 5 == 0 ? "validation" : "training", i / 10);
        write_file(file, text);
    }
    double gigabytes = 0.0;
    std::vector<double> seconds;
    for (auto _ : state) {
        std::ofstream("/proc/self/clear_refs") << "5";  // forgets the peak so far
        const std::int64_t before = resident_memory();
        seconds.push_back(
            seconds_of([&] { benchmark::DoNotOptimize(list_image_set({.from = file}).items.data()); }));
        gigabytes = std::max(gigabytes, static_cast<double>(peak_memory() - before) / 1e9);
        state.SetIterationTime(seconds.back());
    }
    std::filesystem::remove(file);
    state.counters["value"] = bench::median(seconds);
    state.counters["ratio"] = bench::median(seconds) / 5.0;
    state.counters["gigabytes"] = gigabytes;
    state.SetLabel("s");
}

// Random images as two IDX files.
ImageSource write_arrays(const std::filesystem::path& directory, std::int64_t count, std::int64_t side) {
    const auto idx = [&](const char* name, std::initializer_list<std::int64_t> shape, std::uint32_t values) {
        std::string bytes{0, 0, 8, static_cast<char>(shape.size())};
        std::int64_t total = 1;
        for (const std::int64_t length : shape) {
            for (int shift = 24; shift >= 0; shift -= 8) bytes += static_cast<char>(length >> shift & 255);
            total *= length;
        }
        RandomStream random({1, Purpose::sample, static_cast<std::uint32_t>(shape.size()), 0});
        for (std::int64_t i = 0; i < total; ++i) bytes += static_cast<char>(random.below(values));
        write_file(directory / name, bytes);
        return directory / name;
    };
    return {.from = idx("images.idx", {count, side, side}, 256), .labels = idx("labels.idx", {count}, 10)};
}

// What a million images cost besides being read: comparing, surveying and dividing them. The ratio is to the
// minute that it may take; the memory is that of all of it.
void run_million(benchmark::State& state) {
    set_threads(threads_used);
    const std::filesystem::path directory =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-million-{}", ::getpid());
    std::filesystem::create_directories(directory);
    const ImageSource source = write_arrays(directory, 1'000'000, 12);
    std::vector<double> seconds;
    std::vector<double> reading;
    double gigabytes = 0.0;
    for (auto _ : state) {
        std::ofstream("/proc/self/clear_refs") << "5";
        const std::int64_t before = resident_memory();
        std::optional<ImageSet> set;
        reading.push_back(seconds_of([&] { set = read_image_set(source); }));
        seconds.push_back(seconds_of([&] {
            near_duplicates(*set);
            benchmark::DoNotOptimize(survey_images(*set).majority_accuracy);
            benchmark::DoNotOptimize(split_into_parts(*set).training.data());
        }));
        gigabytes = std::max(gigabytes, static_cast<double>(peak_memory() - before) / 1e9);
        state.SetIterationTime(seconds.back());
    }
    std::filesystem::remove_all(directory);
    state.counters["value"] = bench::median(seconds);
    state.counters["ratio"] = bench::median(seconds) / 60.0;
    state.counters["reading_seconds"] = bench::median(reading);
    state.counters["gigabytes"] = gigabytes;
    state.SetLabel("s");
}

}  // namespace

int main(int argc, char** argv) {
    using jevrin::bench::add_figure;
    // Memory first, while the process is fresh.
    add_figure("images/list_1m", 3, run_listing);
    add_figure("images/divide_1m", 1, run_million);
    add_figure("images/decode_resize", 9, [](benchmark::State& state) { run_decoding(state, 320, 240, 64); });
    add_figure("images/decode_resize/1280x960_to_224", 5,
               [](benchmark::State& state) { run_decoding(state, 1280, 960, 224); });
    add_figure("images/decode_resize/320x240_to_224", 9,
               [](benchmark::State& state) { run_decoding(state, 320, 240, 224); });
    add_figure("images/decode_resize/96x96_to_64", 9,
               [](benchmark::State& state) { run_decoding(state, 96, 96, 64); });
    add_figure("images/warm_batch_share", 7, run_warm_batches);
    for (const char* strength : {"light", "medium", "strong"})
        add_figure(strength == std::string("strong") ? "images/augment_overhead"
                                                     : fmt::format("images/augment_overhead/{}", strength),
                   7, [strength](benchmark::State& state) { run_augmentation(state, strength); });
    return jevrin::bench::run(argc, argv);
}
