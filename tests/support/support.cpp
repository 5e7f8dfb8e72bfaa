#include "support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/training/classifier.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <thread>

namespace jevrin::test {

TemporaryDirectory::TemporaryDirectory() {
    std::string pattern = (std::filesystem::temp_directory_path() / "jevrin-test-XXXXXX").string();
    path_ = ::mkdtemp(pattern.data());
    std::filesystem::permissions(path_, std::filesystem::perms(0755));
}

TemporaryDirectory::~TemporaryDirectory() {
    std::error_code ignored;
    std::filesystem::remove_all(path_, ignored);
}

Image small_picture(std::size_t label, std::uint64_t number, std::int64_t side) {
    RandomStream random({77, Purpose::demo, static_cast<std::uint32_t>(label), number});
    const double phase = random.uniform(0, 6);
    Image image(side, side);
    for (std::int64_t y = 0; y < side; ++y)
        for (std::int64_t x = 0; x < side; ++x) {
            const std::int64_t along = label % 3 == 0 ? x : label % 3 == 1 ? y : x + y;
            const bool stripe = static_cast<std::int64_t>(static_cast<double>(along) + phase) % 4 < 2;
            for (std::int64_t c = 0; c < 3; ++c) {
                const double tint = c == static_cast<std::int64_t>(label % 3) ? 40.0 : 0.0;
                image.at(x, y)[c] =
                    static_cast<std::uint8_t>(60 + (stripe ? 90 : 0) + tint + random.uniform(0, 40));
            }
        }
    return image;
}

void write_small_set(const std::filesystem::path& root, const std::vector<std::string>& classes,
                     int per_class) {
    for (std::size_t label = 0; label < classes.size(); ++label) {
        make_directory(root / classes[label]);
        for (int i = 0; i < per_class; ++i) {
            const Image image = small_picture(label, static_cast<std::uint64_t>(i));
            const bool png = i % 2 == 0;
            write_file(root / classes[label] / fmt::format("{:02}.{}", i, png ? "png" : "jpg"),
                       png ? encode_png(image) : encode_jpeg(image, 95));
        }
    }
}

void write_small_backbone(const std::filesystem::path& file, std::int64_t size) {
    Classifier classifier{
        .network = residual_backbone({.widths = {4, 8}, .blocks = {1}, .stem_stride = 1}, {size, size, 3}),
        .classes = {"a", "b", "c", "d"},
        .preparation = {.fitting = {.size = size, .fit = Fit::stretch},
                        .scaling = {{0.4, 0.5, 0.6}, {0.2, 0.25, 0.3}}},
        .provenance = {}};
    append_head(classifier.network, {}, 4);
    initialise(classifier.network, 0, 5);
    // Statistics as if it had been trained.
    for (Node& node : classifier.network.nodes)
        if (std::holds_alternative<operators::BatchNormalisation>(node.op)) {
            node.parameters[2] = random_tensor(node.parameters[2].shape(), 3, 0.2);
            node.parameters[3].fill(1.5F);
        }
    save_classifier(file, classifier);
}

std::string document(const std::string& name) {
    return read_text(std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / name);
}

std::vector<std::string> code_blocks(const std::string& name, const std::string& language) {
    const std::string text = document(name);
    const std::string fence = "```" + language + "\n";
    std::vector<std::string> blocks;
    for (std::size_t at = text.find(fence); at != std::string::npos; at = text.find(fence, at + 1)) {
        const std::size_t begin = at + fence.size();
        blocks.push_back(text.substr(begin, text.find("```", begin) - begin));
    }
    return blocks;
}

std::string small_plan(int epochs, const std::string& extra, const std::string& seeds) {
    return fmt::format(R"(name = "small"
seeds = {}
metric = "accuracy"
[images]
from = "images"
parts = {{ training = 0.5, validation = 0.25, test = 0.25 }}
size = 16
[training]
epochs = {}
batch = 8
{}
[backbone]
file = "backbone.onnx"
[[candidate]]
name = "from scratch"
regime = "scratch"
[[candidate]]
name = "new head"
regime = "frozen"
head = {{ hidden = [8], dropout = 0.2 }}
[[candidate]]
name = "last stage"
regime = "partial"
train_from = "stage2"
)",
                       seeds, epochs, extra);
}

std::filesystem::path write_small_study(const std::filesystem::path& directory, const std::string& plan) {
    write_small_set(directory / "images", {"across", "both", "down"}, 12);
    write_small_backbone(directory / "backbone.onnx");
    write_file(directory / "plan.toml", plan);
    return directory / "plan.toml";
}

Tensor random_tensor(const Shape& shape, std::uint64_t seed, double deviation) {
    Tensor tensor(shape);
    RandomStream random({seed, Purpose::sample, 9, 0});
    for (float& value : tensor.values()) value = static_cast<float>(deviation * random.normal());
    return tensor;
}

std::vector<float> outputs_of(const Network& network, std::int64_t batch, const Tensor& input) {
    Inference inference(network, batch);
    const auto output = inference.run(batch, input.values());
    return {output.begin(), output.end()};
}

std::string story(const std::filesystem::path& directory) {
    const Ledger ledger = Ledger::open(directory);
    std::string text;
    const auto add = [&](double value) { text.append(reinterpret_cast<const char*>(&value), sizeof value); };
    std::vector<RunRecord> runs = ledger.runs(ledger.study().id);
    std::sort(runs.begin(), runs.end(),
              [](const RunRecord& a, const RunRecord& b) { return a.name() < b.name(); });
    for (const RunRecord& run : runs) {
        text += run.name() + name_of(run.state) + std::to_string(run.best->epoch);
        for (const RecordedEpoch& e : ledger.epochs(run.id)) {
            for (const double v :
                 {e.training_loss, e.objective, e.validation_loss, e.training_scores[Metric::accuracy],
                  e.training_scores[Metric::balanced_accuracy], e.training_scores[Metric::macro_f1],
                  e.learning_rate})
                add(v);
            for (std::size_t i = 0; i < 9; ++i) text += std::to_string(e.validation.at(i / 3, i % 3)) + ",";
            for (const LayerSummary& l : ledger.layers(run.id, e.epoch)) {
                text += l.layer;
                for (const double v : {l.weight_norm, l.gradient_norm, l.update_ratio, l.dead_fraction})
                    add(v);
            }
        }
        for (const WarningRecord& w : ledger.warnings(run.id)) text += std::to_string(w.epoch) + w.message;
        for (const PredictionRecord& p : ledger.predictions(run.id, Part::validation)) {
            text += p.item;
            for (const float v : p.probabilities) add(v);
        }
        text += read_text(ledger.model_file(run.id));
    }
    return text;
}

namespace {

void redirect(int descriptor, const std::string& where) {
    if (where == "closed")
        ::close(descriptor);
    else if (!where.empty())
        ::dup2(::open(where.c_str(), O_WRONLY), descriptor);
}

void limit(int resource, long most) {
    if (most < 0) return;
    const rlimit both{static_cast<rlim_t>(most), static_cast<rlim_t>(most)};
    ::setrlimit(static_cast<__rlimit_resource>(resource), &both);
}

}  // namespace

CommandResult run_jevrin(const std::vector<std::string>& arguments, const CommandOptions& options) {
    const TemporaryDirectory outputs;
    const std::string out = (outputs / "out").string();
    const std::string err = (outputs / "err").string();
    std::string program = options.program.empty() ? JEVRIN_PROGRAM : options.program.string();
    std::vector<std::string> words = arguments;
    std::vector<char*> argv = {program.data()};
    for (std::string& word : words) argv.push_back(word.data());
    argv.push_back(nullptr);
    const std::string directory = options.directory.string();
    const int out_file = ::open(out.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0666);
    const int err_file = ::open(err.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0666);
    // Opened with our rights: without root's, the directory of the build may be closed.
    const int program_file = ::open(program.c_str(), O_RDONLY | O_CLOEXEC);
    const pid_t child = ::fork();
    if (child == 0) {
        ::dup2(out_file, STDOUT_FILENO);
        ::dup2(err_file, STDERR_FILENO);
        redirect(STDOUT_FILENO, options.output);
        redirect(STDERR_FILENO, options.errors);
        for (const auto& [name, value] : options.environment) ::setenv(name.c_str(), value.c_str(), 1);
        limit(RLIMIT_AS, options.memory_bytes);
        limit(RLIMIT_NOFILE, options.open_files);
        if (options.largest_file_bytes >= 0) {
            limit(RLIMIT_FSIZE, options.largest_file_bytes);
        }
        if (::chdir(directory.c_str()) != 0) ::_exit(99);
        if (options.as_nobody && ::geteuid() == 0 && (::setgid(65534) != 0 || ::setuid(65534) != 0))
            ::_exit(98);
        ::fexecve(program_file, argv.data(), environ);
        ::_exit(97);
    }
    ::close(program_file);
    ::close(out_file);
    ::close(err_file);
    if (options.kill_after_seconds >= 0) {
        std::this_thread::sleep_for(std::chrono::duration<double>(options.kill_after_seconds));
        ::kill(child, SIGKILL);
    }
    if (options.signal_after_seconds >= 0) {
        std::this_thread::sleep_for(std::chrono::duration<double>(options.signal_after_seconds));
        ::kill(child, SIGINT);
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    CommandResult result;
    result.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    result.output = read_text(out);
    result.errors = read_text(err);
    const bool hindered = options.as_nobody || options.largest_file_bytes >= 0 || options.memory_bytes >= 0 ||
                          options.open_files >= 0 || !options.program.empty();
    if (result.status == 2 && !hindered) note_message(result.errors);
    return result;
}

}  // namespace jevrin::test
