#include "jevrin/plan/plan.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"

#include <nlohmann/json.hpp>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

const std::string head = R"(name = "glaze faults"
[images]
from = "glaze"
)";
const std::string scratch = R"([[candidate]]
name = "a"
regime = "scratch"
network = { family = "residual" }
)";

std::string refusal(const std::string& text) {
    return message_of<InputError>([&] { parse_plan(text, "dir/p.toml"); });
}

TEST(Plan, TheExampleOfTheGuideIsRead) {
    const Plan plan = parse_plan(R"(
name = "glaze faults"
seeds = [1, 2, 3]
metric = "balanced_accuracy"
[images]
from  = "glaze"
parts = { training = 0.6, validation = 0.2, test = 0.2 }
size  = 48
fit   = "crop"
[training]
epochs = 12
batch = 16
optimiser = { kind = "sgd", learning_rate = 0.05, momentum = 0.8, weight_decay = 1e-3 }
[backbone]
file = "backbone.onnx"
[[candidate]]
name = "from scratch"
regime = "scratch"
[[candidate]]
name = "new head"
regime = "frozen"
head = { hidden = [64], dropout = 0.2 }
training = { epochs = 30, augment = { flip = true } }
[[candidate]]
name = "last stage"
regime = "partial"
train_from = "stage3"
)",
                                 "/work place/plan.toml");
    EXPECT_EQ(plan.images.source.from, "/work place/glaze");
    EXPECT_EQ(*plan.backbone, "/work place/backbone.onnx");
    EXPECT_EQ(plan.images.fitting.size, 48);
    EXPECT_EQ(plan.images.fitting.fit, Fit::crop);
    ASSERT_EQ(plan.candidates.size(), 3U);
    EXPECT_EQ(plan.candidates[0].training.optimiser.momentum, 0.8);
    EXPECT_EQ(plan.candidates[1].regime, Regime::frozen);
    EXPECT_THAT(plan.candidates[1].head.hidden, testing::ElementsAre(64));
    EXPECT_EQ(plan.candidates[1].training.epochs, 30);
    EXPECT_EQ(plan.candidates[1].training.batch, 16);  // what a candidate does not say, [training] says
    EXPECT_TRUE(plan.candidates[1].training.augmentation.flip);
    EXPECT_EQ(plan.candidates[2].train_from, "stage3");
}

TEST(Plan, EveryRefusalSaysWhereAndWhatToDo) {
    EXPECT_THAT(refusal(head + scratch + "optimizer = 3\n"),
                AllOf(HasSubstr("dir/p.toml:8:1: "), HasSubstr("no key 'optimizer'")));
    EXPECT_THAT(refusal(head + "[training]\nepoch = 3\n" + scratch),
                AllOf(HasSubstr("dir/p.toml:5:1: "),
                      HasSubstr("[training] has no key 'epoch' (did you mean 'epochs'?)")));
    EXPECT_THAT(refusal(head + "[training]\nepochs = \"ten\"\n" + scratch),
                AllOf(HasSubstr("dir/p.toml:5:10: "), HasSubstr("must be a whole number, not text")));
    EXPECT_THAT(refusal(head + "[training]\nepochs = 1.5\n" + scratch),
                HasSubstr("must be a whole number, not a number"));
    EXPECT_THAT(refusal(head + "[training]\nepochs = 0\n" + scratch),
                HasSubstr("'epochs' is 0; it may be 1 to 100000"));
    EXPECT_THAT(refusal(head + "[training]\noptimiser = { momentum = 1.0 }\n" + scratch),
                HasSubstr("0 to 0.9999"));
    EXPECT_THAT(refusal(head + "[training]\noptimiser = { learning_rate = nan }\n" + scratch),
                HasSubstr("'learning_rate' is nan"));
    EXPECT_THAT(refusal(head + "[training]\nschedule = \"cosin\"\n" + scratch),
                HasSubstr("did you mean 'cosine'"));
    EXPECT_THAT(refusal("name = \"x\"\n" + scratch), HasSubstr("needs [images]"));
    EXPECT_THAT(refusal(head), HasSubstr("at least one [[candidate]]"));
    EXPECT_THAT(refusal("name = \"x\n"), AllOf(HasSubstr("dir/p.toml:1:"), HasSubstr("not TOML")));
    EXPECT_THAT(refusal("[images]\nfrom = \"g\"\n" + scratch), HasSubstr("needs the key 'name'"));
    EXPECT_THAT(refusal("metric = \"acuracy\"\n" + head + scratch), HasSubstr("did you mean 'accuracy'"));
    EXPECT_THAT(refusal("seeds = [1, 1]\n" + head + scratch), HasSubstr("names a seed twice"));
    EXPECT_THAT(refusal("seeds = []\n" + head + scratch), HasSubstr("is empty"));
    EXPECT_THAT(refusal(head + "parts = { training = 0.9, validation = 0.2 }\n" + scratch),
                HasSubstr("sum to 1.1"));
    EXPECT_THAT(refusal(head + scratch + scratch), HasSubstr("two candidates are called 'a'"));
}

TEST(Plan, ContradictionsOfRegimesAreRefused) {
    const auto candidate = [](const std::string& body) {
        return head + "[[candidate]]\nname = \"c\"\n" + body;
    };
    EXPECT_THAT(refusal(candidate("regime = \"frozn\"\n")), HasSubstr("did you mean 'frozen'"));
    EXPECT_THAT(refusal(candidate("regime = \"partial\"\n")), HasSubstr("needs 'train_from'"));
    EXPECT_THAT(refusal(candidate("regime = \"frozen\"\ntrain_from = \"x\"\n")),
                HasSubstr("cannot have 'train_from'"));
    EXPECT_THAT(refusal(candidate("regime = \"frozen\"\nnetwork = { family = \"residual\" }\n")),
                HasSubstr("cannot have 'network'"));
    EXPECT_THAT(refusal(candidate("regime = \"scratch\"\n")), HasSubstr("or a 'network' of its own"));
    EXPECT_THAT(refusal(head + "[[candidate]]\nname = \"a/b\"\nregime = \"scratch\"\n"),
                HasSubstr("holds '/'"));
    EXPECT_THAT(refusal(head + "[[candidate]]\nname = \"a\\u001b[2J\"\nregime = \"scratch\"\n"),
                HasSubstr("control characters"));
}

TEST(Plan, DamagedPlansAreReadOrRefusedWithAPlace) {
    const std::string good = test::small_plan(3, "augment = { flip = true }");
    RandomStream random({8, Purpose::sample, 0, 0});
    int refused = 0;
    for (int round = 0; round < 500; ++round) {
        std::string text = good;
        const std::uint32_t changes = 1 + random.below(3);
        for (std::uint32_t k = 0; k < changes; ++k) {
            const std::size_t at = random.below(static_cast<std::uint32_t>(text.size()));
            if (random.below(2) == 0)
                text[at] = static_cast<char>(32 + random.below(95));
            else
                text.erase(at, 1 + random.below(5));
        }
        try {
            parse_plan(text, "p.toml");
        } catch (const InputError& error) {
            EXPECT_THAT(std::string(error.what()), testing::ContainsRegex("^p.toml:[0-9]+:[0-9]+: ")) << text;
            ++refused;
        }
    }
    EXPECT_GT(refused, 250);
}

TEST(Plan, ResolvedSettingsHoldEveryDefault) {
    const Plan plan = parse_plan(head + scratch, "p.toml");
    const auto json = resolved_settings(plan, plan.candidates[0]);
    EXPECT_EQ(json["training"]["epochs"], TrainingSettings{}.epochs);
    EXPECT_EQ(json["training"]["optimiser"]["learning_rate"], OptimiserSettings{}.learning_rate);
    EXPECT_EQ(json["network"]["widths"], ResidualSettings{}.widths);
    EXPECT_EQ(json["images"]["size"], Fitting{}.size);
    EXPECT_EQ(json["training"]["augment"]["mixing"]["form"], "none");
    EXPECT_EQ(json["metric"], "balanced_accuracy");
}

}  // namespace
}  // namespace jevrin
