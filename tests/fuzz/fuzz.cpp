// Fuzzing what reads foreign bytes: fuzz TARGET [RUNS] [SEED] [keep] changes whole inputs at random, again
// and again, and gives them to the reader, which may refuse them with an InputError and nothing else. Inputs
// begin with the seeds below and the files of tests/fuzz/corpus/TARGET; with "keep", an input that ends in a
// way no other did (another refusal, or none) joins those files. Build with -DJEVRIN_SANITIZE=address to see
// reads outside the bytes as well; a million runs take minutes. scripts/fuzz grows the corpus by coverage.
#include "server_requests.hpp"
#include "support/encoded_images.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/row_store.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/exchange/model_seal.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/out_of_distribution.hpp"
#include "jevrin/training/training_state.hpp"

#include <fmt/format.h>
#include <unistd.h>
#include <webp/encode.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <map>
#include <set>
#include <stdexcept>
#include <string>
#include <vector>

namespace {

using namespace jevrin;

std::string text_of(const std::vector<std::byte>& bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// Six halves, float32, in NPY's first version.
std::string six_halves(const std::string& shape) {
    std::string header = "{'descr': '<f4', 'fortran_order': False, 'shape': " + shape + ", }";
    header.resize(117, ' ');
    return std::string("\x93NUMPY\x01\0\x76\0", 10) + header + "\n" +
           std::string("\0\0\0\x3f\0\0\0\x3f\0\0\0\x3f\0\0\0\x3f\0\0\0\x3f\0\0\0\x3f", 24);
}

Image sample_image() {
    Image image(37, 29);
    for (std::size_t i = 0; i < image.pixels.size(); ++i)
        image.pixels[i] = static_cast<std::uint8_t>(i * 7 + i / 111);
    return image;
}

// [9, 11, samples].
std::vector<int> sample_values(int samples) {
    std::vector<int> values;
    for (int i = 0; i < 9 * 11 * samples; ++i) values.push_back(i * 5 % 251);
    return values;
}

bool text_begins_archive(const std::filesystem::path& file) {
    return read_text(file).starts_with("PK");
}

std::string webp() {
    const Image image = sample_image();
    std::uint8_t* buffer = nullptr;
    const std::size_t size = WebPEncodeLosslessRGB(image.pixels.data(), 37, 29, 37 * 3, &buffer);
    std::string text(reinterpret_cast<char*>(buffer), size);
    WebPFree(buffer);
    return text;
}

std::string jpeg_with_exif() {
    std::string text = text_of(encode_jpeg(sample_image(), 80));
    const std::string tiff("II*\0\x08\0\0\0\x01\0\x12\x01\x03\0\x01\0\0\0\x06\0\0\0\0\0\0\0", 26);
    const std::string payload = std::string("Exif\0\0", 6) + tiff;
    return text.insert(2, std::string("\xFF\xE1\0", 3) + static_cast<char>(payload.size() + 2) + payload);
}

std::span<const std::byte> bytes_of(const std::string& text) {
    return std::as_bytes(std::span(text.data(), text.size()));
}

void decode_everything(const std::string& text) {
    decode_image(bytes_of(text), {.background = {1, 2, 3}, .reduction = 2});
    decode_cutout(bytes_of(text));
    fit_image(bytes_of(text), {.size = 16, .fit = Fit::pad, .padding = FitPadding::mean, .channels = 1});
}

// Runs a reader of files on a temporary one.
void with_file(const std::string& text, const std::function<void(const std::filesystem::path&)>& read) {
    static const std::filesystem::path file =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-fuzz-{}", ::getpid());
    struct Remove {
        ~Remove() { std::filesystem::remove(file); }
    } const at_end;
    std::ofstream(file, std::ios::binary) << text;  // without waiting for the disk
    read(file);
}

// Small, so that changes hit the graph and not only weights.
OutOfDistribution out_of_distribution() {
    const std::vector<float> features = {1.0F, 0.0F, 5.0F, 0.5F, 1.5F, 0.25F, 4.0F, 0.0F};
    return fit_out_of_distribution(features, std::vector<std::size_t>{0, 1, 0, 1}, 2);
}

std::string model(bool transformer) {
    Network network =
        transformer
            ? vision_transformer_backbone({.patch = 4, .width = 2, .depth = 1, .heads = 1}, {8, 8, 1})
            : inverted_residual_backbone(
                  {.stem_width = 2, .stages = {{.width = 2, .expansion = 1}}, .last_width = 2}, {8, 8, 1});
    append_head(network, {}, 2);
    std::string text;
    with_file("", [&](const auto& file) {
        write_model(file, {network, {}});
        text = read_text(file);
    });
    // Without the hash at the end, which would refuse every change.
    return text.substr(0, text.size() - model_seal(std::string(32, '0')).size());
}

// A classifier's file, likewise.
std::string classifier(bool with_preparation = false) {
    Classifier small{.network = plain_backbone({.widths = {2}}, {8, 8, 1}),
                     .classes = {"a", "b"},
                     .preparation = {.fitting = {.size = 8, .channels = 1}, .scaling = {}},
                     .temperature = 1.5,
                     .provenance = {{"run", "a/1"}},
                     .seen_images = SeenImages({ContentHash{1, 2}, ContentHash{3ULL << 40, 4}})};
    append_head(small.network, {}, 2);
    std::string text;
    with_file("", [&](const auto& file) {
        if (with_preparation)
            save_prepared_classifier(file, small);
        else
            save_classifier(file, small);
        text = read_text(file);
    });
    return text.substr(0, text.size() - model_seal(std::string(32, '0')).size());
}

constexpr std::size_t hash_digits = 32;

// A checkpoint without its hash.
std::string checkpoint() {
    TrainingState state{.epochs_done = 1, .steps_done = 3};
    state.parameters.emplace_back(Shape{2, 3});
    state.moments.push_back({{1.0F}, {2.0F}, 3});
    state.best_parameters.emplace_back(Shape{2});
    state.note = "x";
    state.owner = "y";
    std::string text;
    with_file("", [&](const auto& file) {
        write_checkpoint(file, state);
        text = read_text(file);
    });
    return text.substr(0, text.size() - hash_digits);
}

RowStoreSettings store_settings(const std::filesystem::path& directory) {
    return {.directory = directory, .kind = "rows", .identity = "x", .row_bytes = 4, .capacity = 4};
}

// Runs a store whose index is the text.
void use_store(const std::string& index) {
    static const std::filesystem::path directory =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-fuzz-store-{}", ::getpid());
    struct Remove {
        ~Remove() { std::filesystem::remove_all(directory); }
    } const at_end;
    std::filesystem::create_directories(directory);
    std::ofstream(RowStore::index_file(store_settings(directory)), std::ios::binary) << index;
    std::ofstream(RowStore::rows_file(store_settings(directory)), std::ios::binary) << "aaaabbbb";
    RowStore store(store_settings(directory));
    std::vector<std::byte> row(4);
    store.put(ContentHash{1, 1}, row);
    if (!store.read(ContentHash{1, 1}, row)) throw std::logic_error("a row that was put is missing");
}

std::string store_index() {
    std::string text;
    const std::filesystem::path directory =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-fuzz-new-store-{}", ::getpid());
    {
        RowStore store(store_settings(directory));
        store.put(ContentHash{1, 2}, std::vector<std::byte>(4, std::byte{7}));
    }
    text = read_text(RowStore::index_file(store_settings(directory)));
    std::filesystem::remove_all(directory);
    return text;
}

const char* const network_plan =
    "name = \"n\"\n[images]\nfrom = \"g\"\n[[backbone]]\nname = \"b\"\nfile = \"b.onnx\"\n"
    "scaling = \"unit\"\n[[candidate]]\nname = \"a\"\nregime = \"partial\"\nunfreeze = [{ epoch = 2, from = "
    "\"s\" }]\nlearning_rate_factors = { s = 0.1 }\n[[candidate]]\nname = \"c\"\nregime = \"scratch\"\n"
    "[candidate.network]\nlayers = [{ kind = \"convolution\", width = 4 }, { kind = \"dense\" }]\n";

// Axes of every kind, and settings of most.
const char* const varied_plan =
    "name = \"n\"\n[images]\nfrom = \"g\"\nparts = { folds = 3, fold = \"each\" }\n[training]\nsteps = 9\n"
    "schedule = { kind = \"step\", every = 2 }\nloss = { focal_gamma = 1, class_weights = { a = 2 } }\n"
    "[[candidate]]\nname = \"a\"\nregime = \"scratch\"\nnetwork = { family = \"plain\" }\n"
    "[candidate.vary]\nsamples = 3\nhead.hidden = [[], [8]]\ntraining.optimiser = [{ kind = \"adam\" }]\n"
    "training.batch = { low = 2, high = 9, scale = \"log\" }\ntraining.ema_decay = { low = 0.1, high = 0.9 "
    "}\n";

const std::filesystem::path corpus = JEVRIN_CORPUS;

struct Target {
    std::vector<std::string> seeds;
    std::function<void(const std::string&)> read;
};

const std::map<std::string, Target>& targets() {
    const std::string idx =
        std::string("\0\0\x08\x03\0\0\0\2\0\0\0\2\0\0\0\3", 16) + std::string("abcdefghijkl");
    const std::string npy = six_halves("(2, 1, 3)");
    static const std::map<std::string, Target> all = {
        {"png", {{text_of(encode_png(sample_image()))}, decode_everything}},
        {"jpeg", {{text_of(encode_jpeg(sample_image(), 90)), jpeg_with_exif()}, decode_everything}},
        {"webp", {{webp()}, decode_everything}},
        {"tiff",
         {{test::tiff_of({.compression = 5}, 11, 9, sample_values(3)),
           test::tiff_of({.bits = 16, .samples = 1, .tiled = true}, 11, 9, sample_values(1)),
           test::tiff_of({.samples = 4, .compression = 8}, 11, 9, sample_values(4))},
          [](const std::string& text) {
              decode_everything(text);
              decode_image(bytes_of(text), {.value_range = {10, 300}});
          }}},
        {"bmp", {{test::bmp_of(sample_image()), test::bmp_of(sample_image(), true)}, decode_everything}},
        {"gif",
         {{test::gif_of(11, 9, sample_values(1)), test::gif_of(11, 9, sample_values(1), 7, true)},
          decode_everything}},
        {"avif", {{test::avif_of(sample_image()), test::avif_of(sample_image(), 3)}, decode_everything}},
        {"archives",
         {{test::zip_of({{"x_train.npy", npy}, {"y_train.npy", idx}}), test::gzip_of(idx)},
          [](const std::string& text) {
              with_file(text, [](const auto& file) {
                  const ImageArray array(text_begins_archive(file) ? file / "x_train" : file, {}, false);
                  array.image(array.count() - 1);
              });
          }}},
        {"functions",
         {{}, [](const std::string& text) { with_file(text, [](const auto& file) { read_model(file); }); }}},
        {"arrays",
         {{idx, npy},
          [](const std::string& text) {
              read_layout(bytes_of(text), text.size());
              with_file(text, [](const auto& file) {
                  const ImageArray array(file, {}, true);
                  array.image(array.count() - 1);
              });
          }}},
        {"labels",
         {{std::string("\0\0\x08\x01\0\0\0\4abcd", 12)},
          [](const std::string& text) { with_file(text, [](const auto& file) { read_labels(file); }); }}},
        {"index",
         {{"path,label,part,weight,group\na.png,x,training,1,g\n\"b,\"\"c\"\".png\",y,test,0.5,\n"},
          [](const std::string& text) {
              with_file(text,
                        [](const auto& file) { list_image_set({.from = file, .group_pattern = "(.)"}); });
          }}},
        {"csv",
         {{"a,b\n1,\"2\n3\"\n\"\"\"\",x\n"},
          [](const std::string& text) { CsvReader(text, "t").for_each([](const CsvRow&) {}); }}},
        {"contents",
         {{[] {
              std::string text;
              with_file("", [&](const auto& file) {
                  std::filesystem::remove(file);
                  ContentCache cache(file);
                  cache.put("x", {1, 2, 3, 4}, {.problem = "it is empty"});
                  cache.save();
                  text = read_text(file);
              });
              return text;
          }()},
          [](const std::string& text) {
              with_file(text, [](const auto& file) { ContentCache(file).find("x", {1, 2, 3, 4}); });
          }}},
        {"preparation",
         {{Preparation{}.to_json()}, [](const std::string& text) { Preparation::from_json(text); }}},
        {"out_of_distribution",
         {{out_of_distribution().to_text()},
          [](const std::string& text) {
              const OutOfDistribution known = OutOfDistribution::from_text(text);
              known.distance(std::vector<float>(static_cast<std::size_t>(known.width), 1.0F));
          }}},
        {"predictions",
         {{"item,label,a,\"b,\"\nx.png#1,a,0.25,0.75\ny.png,a,1,0\n"},
          [](const std::string& text) {
              with_file(text, [](const auto& file) {
                  const PartPredictions read =
                      read_predictions(file, {{"x.png#1", 0}, {"y.png#2", 1}}, {"a", "b,"});
                  evaluate(read.table);
              });
          }}},
        {"model",
         {{model(false), model(true)},
          [](const std::string& text) {
              with_file(text, [](const auto& file) { read_model(file, {.image_size = 8}); });
          }}},
        {"classifier",
         {{classifier(), classifier(true)},
          [](const std::string& text) {
              with_file(text, [](const auto& file) {
                  const Classifier read = load_classifier(file);
                  const auto values = static_cast<std::size_t>(read.preparation.fitting.values());
                  classify(read, std::vector(1, std::vector<std::uint8_t>(values, 9)));
              });
          }}},
        {"checkpoint",
         {{checkpoint()},
          [](const std::string& text) {
              with_file(text + content_hash(text), [](const auto& file) { read_checkpoint(file); });
          }}},
        {"store", {{store_index()}, use_store}},
        {"json",
         {{R"({"a": [1, -2.5e3, "x\u00e9", null, true], "b": {"c": {}}})"},
          [](const std::string& text) {
              try {
                  json_text(parse_json(text));
              } catch (const JsonError& error) {
                  throw InputError(error.what());
              }
          }}},
        {"routes",
         {{"GET /api/item\nitem=3.png#00000000000000000000000000000003", "GET /api/curves\nruns=[\"c/1\"]",
           "GET /api/matrices\nrun=c/1\nfrom=1\nto=3", "GET /api/thresholds\nrun=c/1\nclass=a",
           "GET /api/difference\nfirst=c\nsecond=c", "GET /api/sample\nseed=3\nper_class=2",
           "GET /api/choice\ncost=seconds", "GET /api/items\nrun=c/1",
           "GET /api/picture\nitem=sealed-test-item.png#00000000000000000000000000000006\nside=64",
           "POST /api/mark\n\n{\"item\": \"4.png#00000000000000000000000000000004\", \"label\": \"b\", "
           "\"note\": \"n\"}",
           "POST /api/unmark\n\n{\"item\": \"4.png#00000000000000000000000000000004\"}",
           "POST /api/classify\nruns=[\"c/1\"]\n\n" + text_of(encode_png(sample_image()))},
          fuzz::ask_routes}},
        {"service",
         {{"POST /v1/runs\n\n{\"split\": \"" + fuzz::split_of_small_ledger() +
               "\", \"candidate\": \"e\", \"regime\": \"frozen\", \"seed\": 1, \"settings\": {\"a\": 1}, "
               "\"prediction_cost\": {\"milliseconds\": 1, \"batch_milliseconds\": 1}, \"items\": "
               "[\"3.png\", "
               "\"4.png\", \"5.png\"], \"classes\": [\"b\", \"a\"]}",
           "GET /v1/runs/2", "GET /v1/parts\nform=csv", "GET /metrics", "GET /openapi.json",
           "PUT /v1/runs/2/epochs/1\n\n{\"training_loss\": 1, \"validation_loss\": 0.5, \"predicted\": "
           "[\"a\", 0, 1], "
           "\"confusion\": [[0, 2], [1, 0]], \"scores\": {\"accuracy\": 0}, \"numbers\": {\"x\": 1e3}}",
           "PUT /v1/runs/2/epochs/3\n\n{\"epoch\": 3, \"training_loss\": 1, \"validation_loss\": 0.5, "
           "\"confusion_cells\": [[\"a\", \"a\", 1], [0, 1, 2]]}",
           "PUT /v1/runs/2/predictions\ncsv=1\n\nitem,a,b\n3.png,0.25,0.75\n4.png,1,0\n5.png,0,1\n",
           "PUT /v1/runs/2/predictions\n\n{\"probabilities\": [[0.5, 0.5], [1, 0], [0.25, 0.75]]}",
           "PUT /v1/runs/2/predictions\nnpy=1\n\n" + six_halves("(3, 2)"),
           "POST /v1/runs/2/finish\n\n{\"best_epoch\": 1}", "POST /v1/runs/2/fail\n\n{\"reason\": \"lost\"}"},
          fuzz::ask_service}},
        {"classifiers",
         {{"GET /v1/classifiers", "GET /v1/classifiers/m\nversion=1",
           "POST /v1/classifiers/m/classify\nimage=1\ntop=0\n\n" + text_of(encode_png(sample_image())),
           "POST /v1/classifiers/m/classify\n\n{\"images\": [{\"name\": \"x\", \"data\": "
           "\"Qk0aAAAAAAAAABoAAAAMAAAAAQABAAEAGAAAAP8A\"}]}",
           "POST /v1/classifiers/m/classify\nform=1\n\nimage a.png\n" + text_of(encode_png(sample_image())) +
               "\n--\nimage b.png\nno image",
           "POST /v1/classifiers/m/corrections\nform=1\n\nimage a.png\n" +
               text_of(encode_png(sample_image())) + "\n--\nlabel\na\n--\nnote\nseen",
           "POST /v1/classifiers/m/corrections\n\n{\"none_of_these\": true, \"image\": {\"data\": "
           "\"Qk0aAAAAAAAAABoAAAAMAAAAAQABAAEAGAAAAP8A\"}}"},
          fuzz::ask_classifier}},
        {"http",
         {{"GET /api/items?run=c%2F1 HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n",
           "POST /api/mark HTTP/1.1\r\nHost: localhost\r\nOrigin: http://localhost\r\nX-Jevrin-Token: x\r\n"
           "Content-Length: 2\r\n\r\n{}",
           "POST /x HTTP/1.1\r\nHost: localhost\r\nContent-Type: multipart/form-data; boundary=b\r\n"
           "Content-Length: 87\r\n\r\n--b\r\nContent-Disposition: form-data; name=\"image\"; "
           "filename=\"a\"\r\n\r\nbytes\r\n--b--\r\n",
           "POST /x HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
           "GET / HTTP/1.1\r\nHost: localhost\r\n\r\nGET /page.css HTTP/1.1\r\nHost: "
           "localhost\r\nConnection: close\r\n\r\n"},
          fuzz::ask_listener}},
        {"recipe",
         {{"[images]\nfrom = \"g\"\n[compose]\ncopies = 2\n"},
          [](const std::string& text) {
              with_file(text, [](const auto& file) {
                  read_images_of(file);
                  read_recipe(file);
              });
          }}},
        {"plan",
         {{network_plan, varied_plan,
           "name = \"n\"\n[images]\nfrom = \"g\"\nparts = { folds = 3 }\n[training]\naugment = \"light\"\n"
           "[[candidate]]\nname = \"a\"\nregime = \"scratch\"\nnetwork = { family = \"residual\" }\n"},
          [](const std::string& text) {
              // What is written of a plan must be one.
              const Plan plan = parse_plan(text, "p.toml");
              for (const Candidate& candidate : plan.candidates)
                  parse_plan(plan_of_run(plan, candidate, 1, 0), "q.toml");
          }}},
    };
    return all;
}

std::string changed(std::string text, RandomStream& random) {
    const std::uint32_t changes = 1 + random.below(6);
    for (std::uint32_t k = 0; k < changes && !text.empty(); ++k) {
        const std::size_t at = random.below(static_cast<std::uint32_t>(text.size()));
        switch (random.below(6)) {
            case 0:
                text[at] = static_cast<char>(random.below(256));
                break;
            case 1:
                text[at] = static_cast<char>(text[at] ^ (1 << random.below(8)));
                break;
            case 2:
                text.resize(at);
                break;
            case 3:
                text.insert(at, text.substr(random.below(static_cast<std::uint32_t>(text.size())),
                                            1 + random.below(16)));
                break;
            case 4:
                text.erase(at, 1 + random.below(8));
                break;
            default:
                text.replace(at, 1, random.below(2) == 0 ? std::string(4, '\xFF') : std::string(4, '\0'));
        }
    }
    return text;
}

// Seeds, and what earlier runs kept.
std::vector<std::string> corpus_of(const std::string& name, const Target& target) {
    std::vector<std::string> inputs = target.seeds;
    std::vector<std::filesystem::path> files;
    std::error_code none;
    for (const auto& entry : std::filesystem::directory_iterator(corpus / name, none))
        files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    for (const auto& file : files) inputs.push_back(read_text(file));
    return inputs;
}

// How an input ends: "" when it is read, or the refusal without what is particular to it.
std::string ending_of(const Target& target, const std::string& input) {
    try {
        target.read(input);
        return "";
    } catch (const InputError& error) {
        std::string words;
        bool quoted = false;
        for (const char c : std::string(error.what())) {
            if (c == '\'') quoted = !quoted;
            if (!quoted && (std::isalpha(static_cast<unsigned char>(c)) != 0 || c == ' ')) words += c;
        }
        return words.substr(0, 200);
    }
}

void keep(const std::string& name, const std::string& input) {
    constexpr std::size_t longest = 4096;
    constexpr std::ptrdiff_t most = 24;
    std::filesystem::create_directories(corpus / name);
    const std::filesystem::directory_iterator files(corpus / name);
    if (input.size() > longest || std::distance(begin(files), end(files)) >= most) return;
    write_file(corpus / name / content_hash(input).substr(0, 16), input);
}

}  // namespace

#ifdef JEVRIN_LIBFUZZER

// The target is named by the environment, since the library has the command line.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const Target& target = targets().at(std::getenv("JEVRIN_FUZZ_TARGET"));
    ending_of(target, std::string(reinterpret_cast<const char*>(data), size));
    return 0;
}

#else

int main(int argc, char** argv) {
    const auto target = targets().find(argc > 1 ? argv[1] : "");
    if (target == targets().end()) {
        fmt::print(stderr, "usage: fuzz TARGET [RUNS] [SEED] [keep]; targets:");
        for (const auto& [name, unused] : targets()) fmt::print(stderr, " {}", name);
        fmt::print(stderr, "\n");
        return 2;
    }
    const auto& [name, reader] = *target;
    const int runs = argc > 2 ? std::stoi(argv[2]) : 2000;
    const std::uint64_t seed = argc > 3 ? std::stoull(argv[3]) : 1;
    const bool keeps = argc > 4 && std::string(argv[4]) == "keep";
    // Of a server's requests some are refused on purpose.
    if (name != "routes" && name != "http")
        for (const std::string& whole : reader.seeds) reader.read(whole);
    std::vector<std::string> inputs = corpus_of(name, reader);
    std::set<std::string> endings;
    int refused = 0;
    int run = -static_cast<int>(inputs.size());
    try {
        for (const std::string& input : inputs) {
            endings.insert(ending_of(reader, input));
            ++run;
        }
        for (; run < runs; ++run) {
            RandomStream random({seed, Purpose::sample, 0, static_cast<std::uint64_t>(run)});
            const std::string text =
                changed(inputs[random.below(static_cast<std::uint32_t>(inputs.size()))], random);
            const std::string ending = ending_of(reader, text);
            refused += !ending.empty();
            if (endings.insert(ending).second && keeps) {
                keep(name, text);
                inputs.push_back(text);
            }
        }
    } catch (const std::exception& error) {
        fmt::print(stderr, "{} run {} seed {}: {}\n", name, run, seed, error.what());
        return 1;
    }
    fmt::print("{}: {} inputs, {} refused in words, {} endings\n", name, runs, refused, endings.size());
    return 0;
}

#endif
