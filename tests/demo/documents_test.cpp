// The commands of the documents, run one after another as a reader would.
#include "embedded.hpp"
#include "glaze.hpp"
#include "support/support.hpp"
#include "surfaces.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/images/image.hpp"

#include <zlib.h>

#include <algorithm>
#include <random>
#include <regex>
#include <set>
#include <sstream>

namespace jevrin::demo {
namespace {

using test::code_blocks;
using test::CommandResult;
using test::document;
using test::TemporaryDirectory;

// The lines of a document that are commands of the tool, without what stands behind them as a comment.
std::vector<std::string> commands_of(const std::string& name) {
    std::vector<std::string> commands;
    std::istringstream lines(document(name));
    for (std::string line; std::getline(lines, line);)
        if (line.starts_with("    jevrin "))
            commands.push_back(std::regex_replace(line.substr(4), std::regex("  +#.*$"), ""));
    return commands;
}

// A document trains for minutes; two epochs say as much of its commands.
std::string shortened_name(const std::string& plan) {
    return std::regex_replace(plan, std::regex("epochs = [0-9]+"), "epochs = 2");
}

// Grey arrays as they are published: images of 8x8 pixels in IDX, and their labels.
void write_arrays(const std::filesystem::path& directory, const std::string& part, std::int64_t count) {
    const auto write = [&](const std::string& kind, std::vector<unsigned char> bytes) {
        const gzFile file = gzopen((directory / (part + "-" + kind + ".gz")).c_str(), "wb");
        gzwrite(file, bytes.data(), static_cast<unsigned>(bytes.size()));
        gzclose(file);
    };
    const auto number = static_cast<unsigned char>(count);
    std::minstd_rand random(static_cast<unsigned>(count));
    std::vector<unsigned char> images = {0, 0, 8, 3, 0, 0, 0, number, 0, 0, 0, 8, 0, 0, 0, 8};
    std::vector<unsigned char> labels = {0, 0, 8, 1, 0, 0, 0, number};
    for (std::int64_t n = 0; n < count; ++n) {
        labels.push_back(static_cast<unsigned char>(n % 3));
        for (int pixel = 0; pixel < 64; ++pixel)
            images.push_back(static_cast<unsigned char>(random() % 100 + 70 * (n % 3)));
    }
    write("images", images);
    write("labels", labels);
}

// The folder of a reader: the demo's set with a part of its tiles, its plans, and the files that are named.
class Documents : public testing::Test {
  protected:
    void SetUp() override {
        std::vector<Tile> tiles = plan_tiles(default_seed);
        const std::string named = document("docs/guide.md");
        std::erase_if(tiles, [&](const Tile& tile) {
            return tile.number % 3 != 0 &&
                   named.find(tile.path.substr(tile.path.find('/') + 1)) == std::string::npos;
        });
        write_tiles(directory_ / "glaze", tiles, default_seed);
        write_file(directory_ / "backbone.onnx", backbone_model());
        const std::vector<std::string> plans = code_blocks("docs/guide.md", "toml");
        ASSERT_EQ(plans.size(), 6U);
        write_file(directory_ / "glaze.toml", shortened_name(plans[0]));
        write_file(directory_ / "recipe.toml", plans[2]);
        write_file(directory_ / "backbones.toml", plans[3]);
        write_file(directory_ / "own.toml", shortened_name(plans[4]));
        write_file(directory_ / "fair.toml", shortened_name(plans[5]));
        std::filesystem::copy(directory_ / "glaze", directory_ / "photos",
                              std::filesystem::copy_options::recursive);
        const Image picture = draw_surface(0, 1, 3);
        write_file(directory_ / "new-tile.jpg", encode_jpeg(picture, 90));
        write_arrays(directory_.path(), "train", 90);
        write_arrays(directory_.path(), "test", 30);
    }

    CommandResult run(const std::string& command) const {
        const std::string program = std::filesystem::path(JEVRIN_PROGRAM).parent_path().string();
        return test::run_jevrin({"-c", command}, {.directory = directory_.path(),
                                                  .environment = {{"PATH", program + ":/usr/bin:/bin"}},
                                                  .program = "/bin/sh"});
    }

    TemporaryDirectory directory_;
};

// Commands that wait for others, or for what others bring, and where they are run instead.
const std::set<std::string> elsewhere = {
    "jevrin watch",                                             // commands/training_commands_test.cpp
    "jevrin page",                                              // browser/live_page_test.cpp
    "jevrin service start --port 8080",                         // commands/service_commands_test.cpp
    "jevrin ledger add theirs",                                 // commands/external_commands_test.cpp
    "jevrin ledger merge /media/kiln2/ledger",                  // commands/comparison_commands_test.cpp
    "jevrin marks received",                                    // commands/service_commands_test.cpp
    "jevrin marks accept 1 3",                                  // the same
    "jevrin marks reject 2",                                    // the same
    "jevrin marks received --into images --unlabelled others",  // the same
};

TEST_F(Documents, EveryCommandOfTheGuideRuns) {
    write_file(directory_ / "plan.toml", read_text(directory_ / "glaze.toml"));
    std::set<std::string> left;
    int ran = 0;
    for (const char* name : {"docs/guide.md", "docs/diagnosis.md"})
        for (const std::string& command : commands_of(name)) {
            if (elsewhere.contains(command)) {
                left.insert(command);
                continue;
            }
            ++ran;
            const CommandResult result = run(command);
            EXPECT_EQ(result.status, 0) << command << "\n" << result.output << result.errors;
        }
    EXPECT_GT(ran, 45);
    EXPECT_EQ(left, elsewhere);  // what is no longer in the documents needs no exception
}

TEST_F(Documents, EveryCommandOfTheReadmeRuns) {
    std::filesystem::create_directory(directory_ / "demo-results");
    std::filesystem::copy(directory_ / "backbone.onnx", directory_ / "demo-results" / "backbone.onnx");
    std::string plan = read_text(directory_ / "glaze.toml");
    plan.replace(plan.find("\"glaze\""), 7, "\"photos\"");
    int ran = 0;
    for (const std::string& command : commands_of("README.md")) {
        if (elsewhere.contains(command)) continue;
        if (command.starts_with("jevrin classify"))
            std::filesystem::copy(directory_ / "new-tile.jpg", directory_ / "photos" / "new.jpg");
        ++ran;
        const CommandResult result = run(command);
        EXPECT_EQ(result.status, 0) << command << "\n" << result.output << result.errors;
        if (command.starts_with("jevrin draft")) write_file(directory_ / "photos.toml", plan);
    }
    EXPECT_GT(ran, 7);
}

}  // namespace
}  // namespace jevrin::demo
