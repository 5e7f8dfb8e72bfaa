// What training costs beside its arithmetic: frozen and partial epochs, whole studies, records, checkpoints.
#include "embedded.hpp"
#include "figures.hpp"
#include "glaze.hpp"
#include "measure.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <unistd.h>

#include <filesystem>

namespace {

using namespace jevrin;

const char* const plan_text = R"(name = "benchmark"
seeds = [1, 2, 3]
[images]
from = "glaze"
parts = { training = 0.6, validation = 0.2, test = 0.2 }
size = 64
[training]
epochs = 6
batch = 16
[backbone]
file = "backbone.onnx"
[[candidate]]
name = "from scratch"
regime = "scratch"
[[candidate]]
name = "new head"
regime = "frozen"
head = { hidden = [64], dropout = 0.2 }
[[candidate]]
name = "last stage"
regime = "partial"
train_from = "stage3"
)";

// The demo's tiles and backbone in a directory of their own, with the three regimes.
class Demo {
  public:
    Demo() : directory_(std::filesystem::temp_directory_path() / fmt::format("jevrin-bench-{}", ::getpid())) {
        make_directory(directory_);
        write_file(directory_ / "backbone.onnx", demo::backbone_model());
        demo::write_tiles(directory_ / "glaze", demo::plan_tiles(demo::default_seed), demo::default_seed, {});
        plan_ = parse_plan(plan_text, directory_ / "plan.toml");
        materials_ = gather_materials(plan_);
    }
    ~Demo() {
        std::error_code ignored;
        std::filesystem::remove_all(directory_, ignored);
    }
    Demo(const Demo&) = delete;
    Demo& operator=(const Demo&) = delete;

    const std::filesystem::path& directory() const { return directory_; }
    const Plan& plan() const { return plan_; }
    CandidateNetwork network(std::size_t candidate) const {
        return build_network(plan_, plan_.candidates[candidate], materials_->backbones,
                             materials_->data.classes, 1);
    }
    std::unique_ptr<RunTrainer> trainer(std::size_t candidate, FeaturePool* pool) const {
        CandidateNetwork built = network(candidate);
        TrainingSettings settings = plan_.candidates[candidate].training;
        settings.epochs = 1000;
        return std::make_unique<RunTrainer>(materials_->data, built.network, built.phases,
                                            materials_->scaling_for(plan_.candidates[candidate]), settings, 1,
                                            pool);
    }

  private:
    std::filesystem::path directory_;
    Plan plan_;
    std::shared_ptr<const Materials> materials_;
};

const Demo& demo_study() {
    static const Demo demo;
    return demo;
}

double seconds_of_epoch(RunTrainer& trainer) {
    const auto begin = std::chrono::steady_clock::now();
    trainer.train_epoch();
    return bench::seconds_since(begin);
}

// Epochs of two candidates in turn; their medians.
std::pair<double, double> epochs_in_turn(benchmark::State& state, std::size_t cheap, std::size_t full) {
    FeaturePool pool({.directory = demo_study().directory() / "stores", .backbone = "demo"});
    const auto a = demo_study().trainer(cheap, &pool);
    const auto b = demo_study().trainer(full, nullptr);
    seconds_of_epoch(*a);
    seconds_of_epoch(*b);
    std::vector<double> first;
    std::vector<double> second;
    for (auto _ : state) {
        second.push_back(seconds_of_epoch(*b));
        for (int i = 0; i < 5; ++i) first.push_back(seconds_of_epoch(*a));
        state.SetIterationTime(first.back());
    }
    state.counters["threads"] = 2;
    return {bench::median(first), bench::median(second)};
}

// How many frozen epochs, after the first, fit into one from scratch.
void run_frozen(benchmark::State& state) {
    const auto [frozen, scratch] = epochs_in_turn(state, 1, 0);
    state.counters["value"] = scratch / frozen;
    state.counters["ratio"] = scratch / frozen;
    state.counters["frozen_ms"] = 1e3 * frozen;
    state.counters["scratch_ms"] = 1e3 * scratch;
    state.SetLabel("x");
}

// What a partial epoch takes of one from scratch, over the fraction of the operations that it trains.
void run_partial(benchmark::State& state) {
    const auto [partial, scratch] = epochs_in_turn(state, 2, 0);
    const CandidateNetwork built = demo_study().network(2);
    const double share = static_cast<double>(multiplication_count(built.network, built.first_trained())) /
                         static_cast<double>(multiplication_count(built.network));
    state.counters["value"] = partial / scratch / share;
    state.counters["ratio"] = partial / scratch / share;
    state.counters["share_of_operations"] = share;
    state.SetLabel("x");
}

double seconds_of_study(const Plan& plan, const std::filesystem::path& ledger, const StudyOptions& options) {
    const auto begin = std::chrono::steady_clock::now();
    train_study(plan, ledger, {}, options);
    return bench::seconds_since(begin);
}

// Three regimes with three seeds, over the three runs from scratch alone; each in a new ledger.
void run_study(benchmark::State& state) {
    std::vector<double> ratios;
    for (auto _ : state) {
        const auto place = [&](const char* name) {
            return demo_study().directory() / fmt::format("{}-{}", name, ratios.size());
        };
        const Plan& plan = demo_study().plan();
        const double alone =
            seconds_of_study(plan, place("scratch"), {.selection = {.only = {"from scratch"}}, .at_once = 1});
        const double all = seconds_of_study(plan, place("all"), {.at_once = 1});
        ratios.push_back(all / alone);
        state.SetIterationTime(all);
    }
    state.counters["value"] = state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 2;
    state.SetLabel("x");
}

// Twelve small runs, three regimes with four seeds, one after another over two at once; each in a new ledger.
void run_at_once(benchmark::State& state) {
    Plan plan = demo_study().plan();
    plan.seeds = {1, 2, 3, 4};
    std::vector<double> ratios;
    for (auto _ : state) {
        const auto place = [&](const char* name) {
            return demo_study().directory() / fmt::format("{}-{}", name, ratios.size());
        };
        const double one = seconds_of_study(plan, place("one"), {.at_once = 1});
        const double two = seconds_of_study(plan, place("two"), {.at_once = 2});
        ratios.push_back(one / two);
        state.SetIterationTime(two);
    }
    state.counters["value"] = state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 2;
    state.SetLabel("x");
}

// An epoch of 200 classes with 2,000 predictions and 40 layers, over the epoch of the demo's scratch run.
void run_record(benchmark::State& state) {
    constexpr std::size_t classes = 200;
    const auto directory = demo_study().directory() / "records";
    std::filesystem::remove_all(directory);
    LedgerWriter ledger = LedgerWriter::open(directory);
    ImageSet set;
    set.root = directory;
    set.fingerprint = "f";
    for (std::size_t c = 0; c < classes; ++c) {
        set.classes.push_back(fmt::format("class {}", c));
        set.items.push_back({.path = fmt::format("{}.png", c), .label = c, .id = fmt::format("{}.png#0", c)});
    }
    Parts parts;
    for (std::size_t c = 0; c < classes; ++c) parts.validation.push_back(c);
    const RunId run =
        ledger.put_run(ledger.put_study("s", Metric::accuracy, set, parts),
                       {.candidate = "c", .regime = Regime::scratch, .seed = 1, .settings = "{}"});
    RecordedEpoch epoch{{}, ConfusionMatrix(classes)};
    RandomStream random({1, Purpose::sample, 0, 0});
    for (std::size_t i = 0; i < 2000; ++i)
        epoch.validation.add(i % classes, random.below(3) == 0 ? random.below(classes) : i % classes);
    std::vector<LayerSummary> layers;
    for (int l = 0; l < 40; ++l) layers.push_back({.layer = fmt::format("layer {}", l)});
    const auto scratch = demo_study().trainer(0, nullptr);
    std::vector<double> records;
    std::vector<double> epochs;
    for (auto _ : state) {
        epochs.push_back(seconds_of_epoch(*scratch));
        for (int i = 0; i < 20; ++i) {
            ++epoch.epoch;
            const auto begin = std::chrono::steady_clock::now();
            ledger.record_epoch(run, epoch, false, layers);
            records.push_back(bench::seconds_since(begin));
        }
        state.SetIterationTime(records.back());
    }
    state.counters["value"] = 1e3 * bench::median(records);
    state.counters["ratio"] = bench::median(records) / bench::median(epochs);
    state.counters["threads"] = 2;
}

// Seconds to write a checkpoint of 100 MB, over an epoch of 10 seconds.
void run_checkpoint(benchmark::State& state) {
    TrainingState training;
    const auto tensor = [] { return Tensor({1024, 1024}); };
    for (int i = 0; i < 8; ++i) {
        training.parameters.push_back(tensor());
        training.best_parameters.push_back(tensor());
        training.moments.push_back({.first = std::vector<float>(1024 * 1024), .second = {}, .steps = 1});
    }
    make_directory(demo_study().directory());
    std::vector<double> seconds;
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        write_checkpoint(demo_study().directory() / "large.checkpoint", training);
        seconds.push_back(bench::seconds_since(begin));
        state.SetIterationTime(seconds.back());
    }
    state.counters["value"] = 1e3 * bench::median(seconds);
    state.counters["ratio"] = bench::median(seconds) / 10.0;
    state.counters["threads"] = 1;
}

}  // namespace

int main(int argc, char** argv) {
    using jevrin::bench::add_figure;
    jevrin::set_threads(2);
    add_figure("frozen_epoch/speedup", 7, run_frozen);
    add_figure("partial_epoch/overhead", 7, run_partial);
    add_figure("record_epoch/share", 5, run_record);
    add_figure("checkpoint/stall", 7, run_checkpoint);
    add_figure("study/overhead", 3, run_study);
    add_figure("study/at_once", 3, run_at_once);
    return jevrin::bench::run(argc, argv);
}
