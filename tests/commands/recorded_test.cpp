// What the commands before training say of one image set and its plans, against what was read once.
#include "support/encoded_images.hpp"
#include "support/recorded_text.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/images/image.hpp"

#include <fmt/format.h>

#include <regex>

namespace jevrin {
namespace {

using test::small_picture;

// Three classes, one of them rare; of several kinds of files, with copies, and what cannot be used.
void write_mixed_images(const std::filesystem::path& root) {
    const std::vector<std::pair<std::string, int>> classes = {{"across", 24}, {"both", 20}, {"rare", 8}};
    for (std::size_t c = 0; c < classes.size(); ++c) {
        std::filesystem::create_directories(root / classes[c].first);
        for (int i = 0; i < classes[c].second; ++i) {
            const Image image = small_picture(c, static_cast<std::uint64_t>(i), i % 5 == 0 ? 24 : 16);
            write_file(root / classes[c].first / fmt::format("tile{:02}-{}.png", i / 2, i % 2),
                       encode_png(image));
        }
    }
    write_file(root / "both" / "old.bmp", test::bmp_of(small_picture(1, 90)));
    write_file(root / "both" / "grey.bmp", test::bmp_of(small_picture(1, 91), true));
    write_file(root / "rare" / "photo.jpg", encode_jpeg(small_picture(2, 92), 90));
    write_file(root / "across" / "copy.png", encode_png(small_picture(0, 3)));
    write_file(root / "rare" / "conflict.png", encode_png(small_picture(0, 4)));
    write_file(root / "both" / "similar.jpg", encode_jpeg(small_picture(1, 2), 95));
    write_file(root / "both" / "broken.png", std::string("no image"));
    write_file(root / "across" / "notes.txt", std::string("bought in March"));
    write_file(root / "across" / ".hidden", std::string("x"));
}

constexpr const char* plan_text = R"(name = "mixed"
seeds = [1, 2]
metric = "balanced_accuracy"
margin = 0.02
[images]
from = "images"
parts = { folds = 3, test = 0.2 }
group_pattern = "(tile\\d+)-"
size = 16
[training]
epochs = 3
batch = 4
augment = "medium"
loss = { class_weights = "balanced" }
[backbone]
file = "backbone.onnx"
[[candidate]]
name = "from scratch"
regime = "scratch"
vary.training.optimiser.learning_rate = [0.01, 0.1]
[[candidate]]
name = "new head"
regime = "frozen"
head = { hidden = [8], dropout = 0.2 }
[[candidate]]
name = "last stage"
regime = "partial"
train_from = "stage2"
)";

class RecordedCommands : public testing::Test {
  protected:
    RecordedCommands() {
        write_mixed_images(directory_ / "images");
        test::write_small_backbone(directory_ / "backbone.onnx");
        write_file(directory_ / "plan.toml", std::string(plan_text));
    }
    std::string output(const std::vector<std::string>& arguments) {
        const test::CommandResult result = test::run_jevrin(arguments, {.directory = directory_.path()});
        EXPECT_EQ(result.status, 0) << result.errors;
        return result.output + (result.errors.empty() ? "" : "---\n" + result.errors);
    }
    // Without lines of what is measured, and times elsewhere.
    void expect(const std::string& name, const std::string& text) {
        static const std::regex line(
            R"((candidate  |  epoch:|  faster with:|left out to fit).*\n|.*\d MB .*\n)");
        static const std::regex time(R"(\d[\d.]* (ms|s|min|h)\b( \d+ (s|min)\b)?)");
        test::expect_recorded("commands/" + name,
                              std::regex_replace(std::regex_replace(text, line, ""), time, "TIME"),
                              directory_.path());
    }

    test::TemporaryDirectory directory_;
};

TEST_F(RecordedCommands, OfAnImageSet) {
    expect("survey", output({"survey", "images"}));
    expect("survey json", output({"survey", "images", "--json"}));
    expect("draft", output({"draft", "images", "--backbone", "backbone.onnx", "--plan", "drafted.toml"}));
    expect("drafted plan", read_text(directory_ / "drafted.toml"));
}

TEST_F(RecordedCommands, OfAPlan) {
    expect("check", output({"check", "plan.toml"}));
    const std::string checked =
        test::run_jevrin({"check", "plan.toml", "--json"}, {.directory = directory_.path()}).output;
    Json json = parse_json(checked);
    Json candidates = Json::array();
    for (Json candidate : json.at("candidates")) {
        for (const char* measured :
             {"seconds_per_epoch", "epoch_seconds", "seconds_once", "memory_bytes", "largest_batch"})
            candidate.erase(measured);
        candidates.push_back(std::move(candidate));
    }
    json.erase("seconds");
    json["candidates"] = std::move(candidates);
    expect("check json", json_text(json, 1) + "\n");
    expect("parts", output({"parts", "plan.toml"}));
    expect("parts json", output({"parts", "plan.toml", "--json"}));
}

}  // namespace
}  // namespace jevrin
