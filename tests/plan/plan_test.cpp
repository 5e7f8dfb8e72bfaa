#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/plan/descriptions.hpp"

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

TEST(Plan, SeedsBeginAtZero) {
    const std::string rest =
        "[images]\nfrom = \"i\"\n[backbone]\nfile = \"b.onnx\"\n[[candidate]]\nname = \"a\"\nregime = "
        "\"scratch\"\n";
    EXPECT_EQ(parse_plan("name = \"p\"\nseeds = [0, 2147483647]\n" + rest, "p.toml").seeds,
              (std::vector<std::uint64_t>{0, 2147483647}));
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
    EXPECT_EQ(plan.backbones.at(0).file, "/work place/backbone.onnx");
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
                AllOf(HasSubstr("dir/p.toml:5:10: "), HasSubstr("must be an integer, not a string")));
    EXPECT_THAT(refusal(head + "[training]\nepochs = 1.5\n" + scratch),
                HasSubstr("must be an integer, not a number"));
    EXPECT_THAT(refusal(head + "[training]\nepochs = 0\n" + scratch),
                HasSubstr("'epochs' is 0, outside the range 1 to 100000"));
    EXPECT_THAT(refusal(head + "[training]\noptimiser = { momentum = 1.0 }\n" + scratch),
                HasSubstr("0 to 0.9999"));
    EXPECT_THAT(refusal(head + "[training]\noptimiser = { learning_rate = nan }\n" + scratch),
                HasSubstr("'learning_rate' is nan"));
    EXPECT_THAT(refusal(head + "[training]\nschedule = \"cosin\"\n" + scratch),
                HasSubstr("did you mean 'cosine'"));
    EXPECT_THAT(refusal("name = \"x\"\n" + scratch), HasSubstr("needs [images]"));
    EXPECT_THAT(refusal(head), HasSubstr("at least one [[candidate]]"));
    EXPECT_THAT(refusal("name = \"x\n"), AllOf(HasSubstr("dir/p.toml:1:"), HasSubstr("not TOML")));
    EXPECT_THAT(refusal("[images]\nfrom = \"g\"\n" + scratch), HasSubstr("lacks the required key 'name'"));
    EXPECT_THAT(refusal("metric = \"acuracy\"\n" + head + scratch), HasSubstr("did you mean 'accuracy'"));
    EXPECT_THAT(refusal("seeds = [1, 1]\n" + head + scratch), HasSubstr("names a seed twice"));
    EXPECT_THAT(refusal("seeds = []\n" + head + scratch), HasSubstr("is empty"));
    EXPECT_THAT(refusal(head + "background = [1, 2]\n" + scratch),
                HasSubstr("'background' needs three numbers: red, green, blue"));
    EXPECT_THAT(refusal(head + "parts = { training = 0.9, validation = 0.2 }\n" + scratch),
                HasSubstr("sum to 1.1"));
    EXPECT_THAT(refusal(head + scratch + scratch), HasSubstr("two candidates are called 'a'"));
}

TEST(Plan, ContradictionsOfRegimesAreRefused) {
    const auto candidate = [](const std::string& body) {
        return head + "[[candidate]]\nname = \"c\"\n" + body;
    };
    EXPECT_THAT(refusal(candidate("regime = \"frozn\"\n")), HasSubstr("did you mean 'frozen'"));
    EXPECT_THAT(refusal(candidate("regime = \"partial\"\n")), HasSubstr("needs one of 'train_from'"));
    EXPECT_THAT(refusal(candidate("regime = \"frozen\"\ntrain_from = \"x\"\n")),
                HasSubstr("cannot have 'train_from'"));
    EXPECT_THAT(refusal(candidate("regime = \"frozen\"\nnetwork = { family = \"residual\" }\n")),
                HasSubstr("cannot have 'network'"));
    EXPECT_THAT(refusal(candidate("regime = \"scratch\"\n")), HasSubstr("or a 'network' of its own"));
    EXPECT_THAT(refusal(candidate("regime = \"scratch\"\nbackbone = \"b\"\nnetwork = { family = "
                                  "\"residual\" }\n")),
                HasSubstr("has both 'network' and 'backbone'"));
    EXPECT_THAT(refusal(candidate("regime = \"frozen\"\nhead_only_epochs = 1\n")),
                HasSubstr("is frozen and cannot have 'head_only_epochs'"));
    EXPECT_THAT(refusal(candidate("regime = \"partial\"\ntrain_from = \"a\"\ntrain_last = 2\n")),
                HasSubstr("needs one of 'train_from'"));
    const std::string backbone = "[[backbone]]\nname = \"b\"\nfile = \"b.onnx\"\n";
    EXPECT_THAT(refusal(head + backbone + backbone + scratch),
                AllOf(HasSubstr("two backbones are called 'b'"), HasSubstr("dir/p.toml:7:")));
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

// A plan with these lines in [images] and in [training].
Plan plan_with(const std::string& images, const std::string& training = "") {
    return parse_plan(head + images + "\n[training]\n" + training + "\n" + scratch, "dir/p.toml");
}

std::string refusal_of(const std::string& images, const std::string& training = "") {
    return message_of<InputError>([&] { plan_with(images, training); });
}

TEST(Plan, PartsComeInFourForms) {
    EXPECT_FALSE(plan_with("").images.parts.has_value());
    const auto parts = [](const std::string& text) { return *plan_with("parts = " + text).images.parts; };
    EXPECT_EQ(parts("{ training = 0.7, validation = 0.3 }").by, PartsBy::shares);
    const PartsSettings counts = parts("{ validation = 10, test = 20 }");
    EXPECT_EQ(counts.by, PartsBy::counts);
    EXPECT_EQ(counts.training, 0.0);
    EXPECT_EQ(counts.test, 20.0);
    const PartsSettings folds = parts("{ folds = 5, fold = 2, test = 0.1 }");
    EXPECT_EQ(folds.by, PartsBy::folds);
    EXPECT_EQ(folds.fold, 2);
    EXPECT_EQ(parts("\"given\"").by, PartsBy::given);
    EXPECT_EQ(parts("{ given = true, validation = 0.2 }").validation, 0.2);
    EXPECT_THAT(refusal_of("parts = \"mine\""), HasSubstr("use \"given\" or a table"));
    EXPECT_THAT(refusal_of("parts = { training = 10, validation = 0.2 }"), HasSubstr("'training' is 10"));
    EXPECT_THAT(refusal_of("parts = { training = 1.5, validation = 2, test = 3 }"),
                HasSubstr("mix fractions"));
    EXPECT_THAT(refusal_of("parts = { folds = 3, fold = 4 }"),
                HasSubstr("'fold' is 4, outside the range 1 to 3"));
    EXPECT_NE(folds.key(), parts("{ folds = 4 }").key());
    EXPECT_EQ(folds.key(), parts("{ folds = 5, fold = 3, test = 0.1 }").key());
}

TEST(Plan, TheImagesTableIsRead) {
    const ImagesPlan images = plan_with(R"x(labels = "l.npy"
shape = [28, 28]
transposed = true
classes = ["a", "b"]
columns = { path = "file", label = "fault" }
group_pattern = "tile-([0-9]+)"
corrections = "corrections.csv"
unlabelled = "new"
padding = "constant"
padding_colour = [1, 2, 3]
background = [0, 0, 0]
channels = 1
scaling = { mean = [0.5, 0.5, 0.5], deviation = [0.2, 0.2, 0.2] }
group_near_duplicates = false)x")
                                  .images;
    EXPECT_EQ(images.source.labels, std::filesystem::absolute("dir/l.npy"));
    EXPECT_THAT(images.source.shape, testing::ElementsAre(28, 28));
    EXPECT_EQ(images.source.columns.at("label"), "fault");
    EXPECT_EQ(images.source.corrections.filename(), "corrections.csv");
    EXPECT_EQ(images.fitting.padding, FitPadding::constant);
    EXPECT_EQ(images.fitting.padding_colour, (Colour{1, 2, 3}));
    EXPECT_EQ(images.channels, 1);
    EXPECT_EQ(images.scaling->kind, ScalingKind::stated);
    EXPECT_EQ(images.scaling->numbers.deviation[2], 0.2);
    EXPECT_FALSE(images.group_near_duplicates);
    EXPECT_EQ(plan_with("scaling = \"unit\"").images.scaling->kind, ScalingKind::unit);
    EXPECT_THAT(refusal_of("scaling = \"none\""),
                AllOf(HasSubstr("p.toml:4:"), HasSubstr("scaling is 'none'")));
    EXPECT_THAT(refusal_of("padding = \"edges\""), HasSubstr("did you mean 'edge'?"));
    EXPECT_THAT(refusal_of("corrections = \"\""),
                AllOf(HasSubstr("p.toml:4:"), HasSubstr("'corrections' is empty")));
    EXPECT_THAT(refusal_of("channels = 2"), HasSubstr("1 (grey) or 3 (colour)"));
    EXPECT_THAT(refusal_of("background = [0, 0]"), HasSubstr("three numbers"));
    EXPECT_THAT(refusal_of("columns = { lable = \"x\" }"), HasSubstr("did you mean 'label'?"));
}

TEST(Plan, AugmentationIsAStrengthOrATableThatBeginsFromOne) {
    const auto augment = [](const std::string& text) {
        return plan_with("", "augment = " + text).candidates[0].training.augmentation;
    };
    EXPECT_EQ(augment("\"strong\"").erase, augmentation_of_strength("strong").erase);
    const Augmentation own = augment(
        R"({ strength = "medium", rotation = 180, flip = false, mixing = { form = "blend", alpha = 0.2 } })");
    EXPECT_EQ(own.rotation, 180.0);
    EXPECT_EQ(own.shift, augmentation_of_strength("medium").shift);
    EXPECT_FALSE(own.flip);
    EXPECT_EQ(own.mixing.form, MixingForm::mixup);
    EXPECT_THAT(refusal_of("", "augment = \"heavy\""),
                AllOf(HasSubstr("p.toml:6:"), HasSubstr("light, medium or strong")));
    EXPECT_THAT(refusal_of("", "augment = { rotate = 3 }"), HasSubstr("did you mean 'rotation'?"));
    EXPECT_THAT(refusal_of("", "augment = { mixing = { form = \"mixp\" } }"),
                HasSubstr("did you mean 'mixup'?"));
    EXPECT_THAT(refusal_of("", "augment = { overlay = [{ file = \"none.png\" }] }"),
                HasSubstr("none.png: cannot read"));
}

TEST(Plan, OverlaysOfAugmentationAreLoadedAndIdentified) {
    const test::TemporaryDirectory directory;
    Image spot(3, 3);
    write_file(directory / "spot.png", encode_png(spot));
    const auto read = [&] {
        return parse_plan(
            head +
                "[training]\naugment = { overlay = [{ file = \"spot.png\", share = 0.25, at = [[0.5, 0.1], "
                "[0.2, 0.3]], size = [0.1, 0.2] }] }\n" +
                scratch,
            directory / "p.toml");
    };
    const Plan plan = read();
    const Overlay& overlay = plan.candidates[0].training.augmentation.overlays.at(0);
    EXPECT_EQ(overlay.cutout->alpha.size(), 9U);
    EXPECT_EQ(overlay.at[1][1], 0.3);
    const auto before = complete_json(settings_of(plan, plan.candidates[0]));
    spot.pixels[0] = 1;
    write_file(directory / "spot.png", encode_png(spot));
    const Plan changed = read();
    EXPECT_NE(complete_json(settings_of(changed, changed.candidates[0])), before);
}

// A scratch candidate with a network of its own.
std::string with_network(const std::string& network) {
    return head + "[[candidate]]\nname = \"a\"\nregime = \"scratch\"\nnetwork = " + network + "\n";
}

TEST(Plan, FamiliesOfNetworksAreRead) {
    const auto network = [](const std::string& text) {
        return *parse_plan(with_network(text), "p.toml").candidates[0].network;
    };
    const auto residual = std::get<ResidualSettings>(network(
        R"({ family = "residual", widths = [64, 128], blocks = [3, 4], block = "bottleneck", stem_pool = true })"));
    EXPECT_EQ(residual.blocks, (std::vector<std::int64_t>{3, 4}));
    EXPECT_EQ(residual.block, ResidualBlock::bottleneck);
    EXPECT_EQ(std::get<PlainSettings>(network(R"({ family = "plain", convolutions = 1 })")).convolutions, 1);
    const auto perceptron = std::get<PerceptronSettings>(
        network(R"({ family = "perceptron", hidden = [32], activation = "gelu", dropout = 0.1 })"));
    EXPECT_EQ(perceptron.activation, FunctionKind::gelu);
    const auto inverted = std::get<InvertedResidualSettings>(network(
        R"({ family = "inverted residual", stages = [{ width = 8, stride = 2, squeeze = false }], last_width = 32 })"));
    ASSERT_EQ(inverted.stages.size(), 1U);
    EXPECT_FALSE(inverted.stages[0].squeeze);
    EXPECT_EQ(
        std::get<VisionTransformerSettings>(network(R"({ family = "vision transformer", depth = 2 })")).depth,
        2);
    EXPECT_EQ(
        std::get<DenselyConnectedSettings>(network(R"({ family = "densely connected", growth = 8 })")).growth,
        8);
}

TEST(Plan, NetworksThatCannotBeAreRefusedAtTheirPlace) {
    const auto refused = [](const std::string& network) { return refusal(with_network(network)); };
    EXPECT_THAT(
        refused(R"({ family = "residul" })"),
        AllOf(HasSubstr("p.toml:7:"), HasSubstr("did you mean 'residual'?"), HasSubstr("perceptron")));
    EXPECT_THAT(refused(R"({ widths = [3] })"), HasSubstr("either 'family' or 'layers'"));
    EXPECT_THAT(refused(R"({ family = "residual", widths = [8, 8], blocks = [1, 2, 3] })"),
                HasSubstr("has 3 numbers and there are 2 stages"));
    EXPECT_THAT(refused(R"({ family = "vision transformer", width = 30, heads = 4 })"),
                HasSubstr("the width 30 is not divisible by 4 heads"));
    EXPECT_THAT(refused(R"({ layers = [{ kind = "convolutoin", width = 3 }] })"),
                HasSubstr("did you mean 'convolution'?"));
    EXPECT_THAT(refused(R"({ layers = [{ kind = "convolution" }] })"),
                HasSubstr("lacks the required key 'width'"));
    EXPECT_THAT(refused(R"({ layers = [{ kind = "dense" }, { kind = "flatten" }] })"),
                HasSubstr("a dense layer needs 'width'"));
    EXPECT_THAT(
        refused(R"({ layers = [{ kind = "flatten", name = "a" }, { kind = "dropout", name = "a" }] })"),
        HasSubstr("is taken by the one at"));
    EXPECT_THAT(refused(R"({ layers = [{ kind = "flatten", rate = 0.5 }] })"),
                HasSubstr("'rate' applies only to dropout, not to a layer of kind 'flatten'"));
}

std::string backbones_with(const std::string& candidate) {
    return head + R"([[backbone]]
name = "small"
file = "small.onnx"
[[backbone]]
name = "large"
file = "large.onnx"
features = "pool"
scaling = { mean = [0.1, 0.2, 0.3], deviation = [1, 1, 1] }
[[candidate]]
name = "c"
regime = )" +
           candidate;
}

TEST(Plan, SeveralBackbonesAreNamed) {
    const Plan plan = parse_plan(backbones_with("\"frozen\"\nbackbone = \"large\"\n"), "p.toml");
    ASSERT_EQ(plan.backbones.size(), 2U);
    EXPECT_EQ(plan.backbones[1].features, "pool");
    EXPECT_EQ(plan.backbones[1].scaling->numbers.mean[2], 0.3);
    EXPECT_EQ(plan.candidates[0].backbone, "large");
    EXPECT_THAT(refusal(backbones_with("\"frozen\"\n")),
                AllOf(HasSubstr("must say which 'backbone'"), HasSubstr("small, large")));
    EXPECT_THAT(refusal(backbones_with("\"frozen\"\nbackbone = \"smal\"\n")),
                HasSubstr("did you mean 'small'?"));
}

TEST(Plan, FreezingIsReadAndContradictionsAreRefused) {
    const auto partial = [](const std::string& keys) {
        return backbones_with("\"partial\"\nbackbone = \"small\"\n" + keys);
    };
    const auto read = [&](const std::string& keys) {
        return parse_plan(partial(keys), "p.toml").candidates[0];
    };
    EXPECT_EQ(read("train_last = 3\nhead_first = 2\n").head_only_epochs, 2);
    EXPECT_EQ(read("train_fraction = 0.25\nnormalisation = \"fixed\"\n").normalisation,
              NormalisationMode::fixed);
    const Candidate gradual = read(
        "unfreeze = [{ epoch = 2, from = \"s3\" }, { epoch = 5, from = \"s2\" }]\n"
        "learning_rate_factors = { \"s2\" = 0.1, head = 2 }\n");
    EXPECT_EQ(gradual.unfreezing[1].epoch, 5);
    EXPECT_THAT(gradual.rate_factors, testing::Contains(testing::Pair("s2", 0.1)));
    EXPECT_THAT(refusal(partial("train_last = 3\ntrain_from = \"s\"\n")), HasSubstr("needs one of"));
    EXPECT_THAT(refusal(partial("unfreeze = [{ epoch = 3, from = \"a\" }, { epoch = 3, from = \"b\" }]\n")),
                HasSubstr("must increase"));
    EXPECT_THAT(refusal(partial("train_last = 1\nhead_first = 15\n")), HasSubstr("only its head in all"));
    EXPECT_THAT(refusal(backbones_with("\"frozen\"\nbackbone = \"small\"\ntrain_last = 2\n")),
                HasSubstr("cannot have 'train_last'"));
    EXPECT_THAT(refusal(backbones_with("\"frozen\"\nbackbone = \"small\"\nnormalisation = \"fixed\"\n")),
                HasSubstr("cannot have 'normalisation'"));
    EXPECT_THAT(
        refusal(backbones_with("\"partial\"\nbackbone = \"small\"\nlast_layer = \"logistic regression\"\n")),
        HasSubstr("features of a frozen backbone"));
    EXPECT_THAT(refusal(backbones_with("\"frozen\"\nbackbone = \"small\"\npenalty = 3\n")),
                HasSubstr("applies only to logistic regression"));
}

TEST(Plan, ResolvedSettingsHoldEveryDefault) {
    const Plan plan = parse_plan(head + scratch, "p.toml");
    const auto json = complete_json(settings_of(plan, plan.candidates[0]));
    EXPECT_EQ(json["training"]["epochs"], TrainingSettings{}.epochs);
    EXPECT_EQ(json["training"]["optimiser"]["learning_rate"], OptimiserSettings{}.learning_rate);
    EXPECT_EQ(json["network"]["widths"], ResidualSettings{}.widths);
    EXPECT_EQ(json["images"]["size"], 64);
    EXPECT_EQ(json["training"]["augment"]["mixing"]["form"], "none");
    EXPECT_EQ(json["metric"], "balanced_accuracy");
}

TEST(Plan, CandidatesAreFoundByTheirName) {
    const std::string other =
        "\n[[candidate]]\nname = \"b\"\nregime = \"scratch\"\nnetwork = { family = "
        "\"plain\", widths = [4] }\n";
    const Plan plan = parse_plan(head + scratch + other, "dir/p.toml");
    for (const Candidate& candidate : plan.candidates)
        EXPECT_EQ(&candidate_called(plan, candidate.name), &candidate);
    EXPECT_EQ(message_of<InputError>([&] { candidate_called(plan, "A"); }),
              "dir/p.toml: no candidate is called 'A' (did you mean 'a'?); there are a, b");
}

TEST(PlanText, StatesTheMarginAndUpToHowManySeeds) {
    const std::string rest =
        "[images]\nfrom = \"x\"\nsize = 8\n[[candidate]]\nname = \"a\"\nregime = \"scratch\"\nnetwork = { "
        "family = "
        "\"plain\", widths = [4] }\n";
    const auto plan_of = [&](const std::string& lines) {
        return parse_plan("name = \"p\"\nseeds = [1, 2, 3]\n" + lines + rest, "plan.toml");
    };
    EXPECT_EQ(plan_of("").margin, 0.01);
    EXPECT_EQ(plan_of("").most_seeds, 0);
    EXPECT_EQ(plan_of("margin = 0.02\nmost_seeds = 10\n").margin, 0.02);
    EXPECT_EQ(plan_of("margin = 0.02\nmost_seeds = 10\n").most_seeds, 10);
    EXPECT_EQ(plan_of("most_seeds = 3\n").most_seeds, 3);
    EXPECT_THAT(test::message_of<InputError>([&] { plan_of("margin = 0\n"); }),
                testing::HasSubstr("'margin'"));
    EXPECT_THAT(test::message_of<InputError>([&] { plan_of("most_seeds = 2\n"); }),
                testing::HasSubstr("the plan has 3 seeds already"));
}

}  // namespace
}  // namespace jevrin
