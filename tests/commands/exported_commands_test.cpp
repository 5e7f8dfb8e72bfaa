// Whatever trains, every later command accepts: each family of exported networks, with and without its head,
// goes the whole way.
#include "support/exported_model.hpp"
#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::ExportedEnd;
using test::ExportedFamily;
using testing::HasSubstr;

struct Way {
    ExportedFamily family;
    ExportedEnd end;
};

class ExportedWay : public testing::TestWithParam<Way> {};

TEST_P(ExportedWay, FromTheCheckToNewImages) {
    const test::TemporaryDirectory directory;
    test::write_small_set(directory / "images", {"across", "both", "down"}, 12);
    test::write_exported_model(directory / "exported.onnx", {.family = GetParam().family,
                                                             .style = test::NamingStyle::numbered,
                                                             .opset = 18,
                                                             .end = GetParam().end});
    write_file(directory / "plan.toml", std::string(R"(name = "exported"
seeds = [1]
metric = "accuracy"
[images]
from = "images"
parts = { training = 0.5, validation = 0.25, test = 0.25 }
size = 32
[training]
epochs = 2
batch = 8
[backbone]
file = "exported.onnx"
scaling = "unit"
[[candidate]]
name = "frozen"
regime = "frozen"
head = { hidden = [8], dropout = 0.2 }
[[candidate]]
name = "solved"
regime = "frozen"
last_layer = "logistic regression"
[[candidate]]
name = "partial"
regime = "partial"
train_last = 1
)"));
    const std::vector<std::vector<std::string>> commands = {
        {"check", "plan.toml"},
        {"train", "plan.toml"},
        {"scores", "frozen/1"},
        {"scores", "partial/1", "--part", "test"},
        {"thresholds", "solved/1"},
        {"show", "partial/1", "both/02.png"},
        {"export", "partial/1", "partial.onnx"},
        {"export", "frozen/1", "frozen.onnx"},
        {"classify", "partial.onnx", "images/across/00.png", "images/down"},
        {"classify", "frozen.onnx", "images/across/00.png"},
        {"layers", "partial.onnx", "images/across/00.png"},
        {"suspects", "partial/1"},
        {"choose", "--test"},
    };
    for (const auto& command : commands) {
        const test::CommandResult result = test::run_jevrin(command, {.directory = directory.path()});
        EXPECT_EQ(result.status, 0) << command[0] << ": " << result.errors;
    }
}

std::vector<Way> every_way() {
    std::vector<Way> all;
    for (const ExportedFamily family : test::all_exported_families)
        for (const ExportedEnd end : {ExportedEnd::classes, ExportedEnd::features, ExportedEnd::values})
            all.push_back({family, end});
    return all;
}

std::string name_of_way(const testing::TestParamInfo<Way>& way) {
    static const char* const ends[] = {"classes", "features", "values"};
    return fmt::format("{}_{}", test::name_of(way.param.family),
                       ends[static_cast<std::size_t>(way.param.end)]);
}

INSTANTIATE_TEST_SUITE_P(All, ExportedWay, testing::ValuesIn(every_way()), name_of_way);

}  // namespace
}  // namespace jevrin
