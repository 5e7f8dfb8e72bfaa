// The [training] table, the axes of candidates, and plans that are written again.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/plan/descriptions.hpp"

#include <set>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

const std::string images_table = R"(name = "tiles"
[images]
from = "glaze"
)";

Plan plan_training(const std::string& training, const std::string& more = "") {
    return parse_plan(images_table + "[training]\n" + training + R"(
[[candidate]]
name = "a"
regime = "scratch"
network = { family = "residual" }
)" + more,
                      "dir/p.toml");
}
TrainingSettings training_of(const std::string& training) {
    return plan_training(training).candidates[0].training;
}
std::string training_refusal(const std::string& training, const std::string& more = "") {
    return message_of<InputError>([&] { plan_training(training, more); });
}

TEST(TrainingTable, EverySettingIsRead) {
    const TrainingSettings t = training_of(R"(
steps = 500
minutes = 2.5
validate_every = 50
patience = 4
batch = 8
training_fraction = 0.5
gradient_clipping = 1.5
ema_decay = 0.99
sampling = "balanced"
schedule = { kind = "one cycle", rise_fraction = 0.2, initial_fraction = 0.05, final_fraction = 0.01 }
optimiser = { kind = "adamw", learning_rate = 3e-4, beta1 = 0.8, beta2 = 0.95, epsilon = 1e-6, weight_decay = 0.1 }
loss = { label_smoothing = 0.1, focal_gamma = 2, class_weights = { sound = 0.5, "odd one" = 2 } }
)");
    EXPECT_EQ(t.steps, 500);
    EXPECT_EQ(t.minutes, 2.5);
    EXPECT_EQ(t.validate_every, 50);
    EXPECT_EQ(t.patience, 4);
    EXPECT_EQ(t.fraction, 0.5);
    EXPECT_EQ(t.gradient_clipping, 1.5);
    EXPECT_EQ(t.ema_decay, 0.99);
    EXPECT_EQ(t.sampling, Sampling::balanced);
    EXPECT_EQ(t.schedule.kind, ScheduleKind::one_cycle);
    EXPECT_EQ(t.schedule.rise_fraction, 0.2);
    EXPECT_EQ(t.schedule.final_fraction, 0.01);
    EXPECT_EQ(t.optimiser.kind, OptimiserKind::adamw);
    EXPECT_EQ(t.optimiser.beta2, 0.95);
    EXPECT_EQ(t.loss.label_smoothing, 0.1);
    EXPECT_EQ(t.loss.focal_gamma, 2.0);
    EXPECT_THAT(t.loss.named_weights,
                testing::ElementsAre(testing::Pair("odd one", 2.0), testing::Pair("sound", 0.5)));
    EXPECT_TRUE(training_of("loss = { class_weights = \"balanced\" }").loss.balanced_classes);
}

TEST(TrainingTable, DefaultsAreThoseOfTheKind) {
    EXPECT_EQ(training_of("").optimiser.learning_rate, 0.05);
    EXPECT_EQ(training_of("optimiser = { kind = \"adam\" }").optimiser.learning_rate, 1e-3);
    EXPECT_EQ(training_of("optimiser = { kind = \"adamw\" }").optimiser.weight_decay, 0.01);
    // A candidate that changes the kind does not keep what the plan says about another one.
    const Plan plan = plan_training("optimiser = { learning_rate = 0.3 }\nschedule = \"cosine\"", R"(
[[candidate]]
name = "b"
regime = "scratch"
network = { family = "residual" }
training = { optimiser = { kind = "adamw" }, schedule = { warm_up = 2 } }
)");
    EXPECT_EQ(plan.candidates[0].training.optimiser.learning_rate, 0.3);
    EXPECT_EQ(plan.candidates[1].training.optimiser.learning_rate, 1e-3);
    EXPECT_EQ(plan.candidates[1].training.schedule.kind, ScheduleKind::cosine);
    EXPECT_EQ(plan.candidates[1].training.schedule.warm_up, 2.0);
}

TEST(TrainingTable, ContradictionsAreRefusedWithTheirPlace) {
    EXPECT_THAT(training_refusal("epochs = 3\nsteps = 5"),
                AllOf(HasSubstr("dir/p.toml:"), HasSubstr("remove one")));
    EXPECT_THAT(training_refusal("optimiser = { kind = \"sgd\", beta1 = 0.9 }"),
                HasSubstr("'beta1' applies only to adam, adamw, not to sgd"));
    EXPECT_THAT(training_refusal("optimiser = { kind = \"adam\", momentum = 0.9 }"),
                AllOf(HasSubstr("dir/p.toml:5:"), HasSubstr("'momentum' applies only to sgd, not to adam")));
    EXPECT_THAT(training_refusal("optimiser = { momentum = 0, nesterov = true }"),
                HasSubstr("needs momentum"));
    EXPECT_THAT(training_refusal("schedule = { kind = \"cosine\", every = 3 }"),
                HasSubstr("'every' applies only to step, not to the schedule 'cosine'"));
    EXPECT_THAT(training_refusal("schedule = { kind = \"one cycle\", warm_up = 3 }"),
                HasSubstr("'warm_up' applies only to"));
    EXPECT_THAT(training_refusal("epochs = 3\nschedule = { warm_up = 3 }"), HasSubstr("training has only 3"));
    EXPECT_THAT(training_refusal("loss = { class_weights = \"even\" }"), HasSubstr("\"balanced\", \"none\""));
    EXPECT_THAT(training_refusal("sampling = \"balancd\""), HasSubstr("did you mean 'balanced'"));
    EXPECT_THAT(training_refusal("views = 2\naugment = { mixing = { form = \"mixup\" } }"),
                HasSubstr("cannot be combined with 'mixing'"));
    EXPECT_THAT(training_refusal("views = 2"), HasSubstr("save nothing"));
    EXPECT_THAT(training_refusal("training_fraction = 0"), HasSubstr("'training_fraction' is 0"));
}

TEST(Folds, OneSomeOrEach) {
    const auto folds = [](const std::string& fold) {
        return parse_plan("name = \"f\"\n[images]\nfrom = \"x\"\nparts = { folds = 4" + fold +
                              " }\n[[candidate]]\nname = \"a\"\nregime = \"scratch\"\nnetwork = { family = "
                              "\"residual\" }\n",
                          "p.toml")
            .images;
    };
    EXPECT_THAT(folds("").folds, testing::ElementsAre(1));
    EXPECT_EQ(folds(", fold = 3").parts->fold, 3);
    EXPECT_THAT(folds(", fold = [2, 4]").folds, testing::ElementsAre(2, 4));
    EXPECT_THAT(folds(", fold = \"each\"").folds, testing::ElementsAre(1, 2, 3, 4));
    EXPECT_THAT(message_of<InputError>([&] { folds(", fold = [2, 2]"); }), HasSubstr("names a fold twice"));
    EXPECT_THAT(message_of<InputError>([&] { folds(", fold = 5"); }), HasSubstr("outside the range 1 to 4"));
    EXPECT_THAT(message_of<InputError>([&] { folds(", fold = \"all\""); }), HasSubstr("\"each\""));
}

// --- axes ---

Plan varied(const std::string& vary, const std::string& candidate = "") {
    return parse_plan(images_table + R"([training]
epochs = 5
[[candidate]]
name = "plain"
regime = "scratch"
network = { family = "plain" }
[[candidate]]
name = "b"
regime = "scratch"
network = { family = "residual" }
)" + candidate + "[candidate.vary]\n" +
                          vary,
                      "dir/p.toml");
}
std::vector<std::string> names(const Plan& plan) {
    std::vector<std::string> result;
    for (const Candidate& candidate : plan.candidates) result.push_back(candidate.name);
    return result;
}
std::string vary_refusal(const std::string& vary, const std::string& candidate = "") {
    return message_of<InputError>([&] { varied(vary, candidate); });
}

TEST(Axes, ListsMakeAGrid) {
    const Plan plan = varied(R"(training.optimiser.learning_rate = [0.01, 0.1]
head.hidden = [[], [32, 16]]
)");
    EXPECT_THAT(names(plan), testing::ElementsAre("plain", "b: hidden none, learning_rate 0.01",
                                                  "b: hidden none, learning_rate 0.1",
                                                  "b: hidden 32-16, learning_rate 0.01",
                                                  "b: hidden 32-16, learning_rate 0.1"));
    const Candidate& last = plan.candidates.back();
    EXPECT_EQ(last.origin, "b");
    EXPECT_EQ(last.training.optimiser.learning_rate, 0.1);
    EXPECT_EQ(last.training.epochs, 5);
    EXPECT_THAT(last.head.hidden, testing::ElementsAre(32, 16));
    ASSERT_EQ(last.varied.size(), 2U);
    EXPECT_EQ(last.varied[1].path, "training.optimiser.learning_rate");
    EXPECT_TRUE(plan.candidates[0].varied.empty());
    EXPECT_EQ(plan.candidates[0].origin, "plain");
}

TEST(Axes, WholeTablesVaryAndEqualKeysAreToldApart) {
    const Plan plan =
        varied("training.optimiser = [{ kind = \"sgd\" }, { kind = \"adamw\", learning_rate = 2e-3 }]\n");
    EXPECT_THAT(names(plan), testing::ElementsAre("plain", "b: optimiser 1 sgd", "b: optimiser 2 adamw"));
    EXPECT_EQ(plan.candidates[2].training.optimiser.learning_rate, 2e-3);
    EXPECT_THAT(names(varied("training.schedule.patience = [2]\ntraining.patience = [3]\n"
                             "training.schedule.kind = [\"plateau\"]\n")),
                testing::ElementsAre("plain", "b: training.patience 3, kind plateau, schedule.patience 2"));
}

TEST(Axes, RangesAreDrawnFromTheirSeed) {
    const std::string ranges = R"(samples = 12
training.optimiser.learning_rate = { low = 1e-4, high = 1.0, scale = "log" }
training.batch = { low = 4, high = 64 }
training.loss.label_smoothing = { low = 0.0, high = 0.2 }
training.sampling = ["natural", "balanced"]
)";
    const Plan plan = varied(ranges);
    ASSERT_EQ(plan.candidates.size(), 13U);
    std::set<std::int64_t> batches;
    int small = 0;
    for (std::size_t i = 1; i < 13; ++i) {
        const TrainingSettings& t = plan.candidates[i].training;
        EXPECT_GE(t.optimiser.learning_rate, 1e-4);
        EXPECT_LE(t.optimiser.learning_rate, 1.0);
        EXPECT_GE(t.batch, 4);
        EXPECT_LE(t.batch, 64);
        EXPECT_LE(t.loss.label_smoothing, 0.2);
        batches.insert(t.batch);
        small += t.optimiser.learning_rate < 0.01 ? 1 : 0;
    }
    EXPECT_GT(batches.size(), 6U);
    EXPECT_GE(small, 3);  // half of them on a log scale
    EXPECT_EQ(names(varied(ranges)), names(plan));
    EXPECT_NE(names(varied(ranges + "seed = 2\n")), names(plan));
}

TEST(Axes, SamplesOfAListAreDistinct) {
    const Plan plan = varied("samples = 3\ntraining.batch = [1, 2, 3, 4]\ntraining.epochs = [7, 8]\n");
    const auto all = names(plan);
    EXPECT_EQ(std::set<std::string>(all.begin(), all.end()).size(), 4U);
    // More than there are gives all there are.
    EXPECT_EQ(varied("samples = 50\ntraining.batch = [1, 2, 3]\n").candidates.size(), 4U);
}

TEST(Axes, MistakesAreRefusedWithTheirPlace) {
    EXPECT_THAT(vary_refusal("training.optimiser.learning_rate = [0.01, \"high\"]\n"),
                AllOf(HasSubstr("dir/p.toml:15:43"), HasSubstr("must be a number")));
    EXPECT_THAT(vary_refusal("training.optimiser.learning_rat = [0.01]\n"),
                AllOf(HasSubstr("dir/p.toml:15:"),
                      HasSubstr("has no key 'learning_rat' (did you mean 'learning_rate'?)")));
    EXPECT_THAT(vary_refusal("training.batch = []\n"), HasSubstr("no values"));
    EXPECT_THAT(vary_refusal("training.batch = 7\n"), HasSubstr("must be a table"));
    EXPECT_THAT(vary_refusal("name = [\"a\", \"b\"]\n"), HasSubstr("'name' cannot vary"));
    EXPECT_THAT(vary_refusal("seed = 3\n"), HasSubstr("names no setting"));
    EXPECT_THAT(vary_refusal("training.batch = { low = 8, high = 4 }\nsamples = 2\n"),
                HasSubstr("below 'high'"));
    EXPECT_THAT(vary_refusal("training.batch = { low = 0, high = 4, scale = \"log\" }\nsamples = 2\n"),
                HasSubstr("must be above 0"));
    EXPECT_THAT(vary_refusal("training.batch = { low = 1, high = 4 }\n"), HasSubstr("needs 'samples'"));
    EXPECT_THAT(vary_refusal("training.batch = [4]\n", "training = { batch = 8 }\n"),
                HasSubstr("'training.batch' is stated and varied"));
    EXPECT_THAT(
        vary_refusal("training.schedule.warm_up = [1, 2]\n", "training = { schedule = \"cosine\" }\n"),
        HasSubstr("goes through 'schedule'"));
    std::string wide = "training.batch = [1";
    for (int i = 2; i <= 40; ++i) wide += ", " + std::to_string(i);
    EXPECT_THAT(vary_refusal(wide + "]\n" + "training.epochs" + wide.substr(14) + "]\n"),
                HasSubstr("more than 1000 combinations"));
    EXPECT_THAT(vary_refusal("training.batch = [100000]\n"), HasSubstr("outside the range 1 to 65536"));
    EXPECT_THAT(message_of<InputError>([] { varied("training.batch = [1, 1]\n"); }),
                HasSubstr("two candidates are called"));
}

// --- plans that are written again ---

TEST(PlanOfRun, SaysEverythingAndReadsBack) {
    const Plan plan = parse_plan(R"(name = "all of \"it\" \\ \u00e9"
seeds = [4, 9]
metric = "macro_f1"
[images]
from = "index.csv"
parts = { folds = 3, fold = "each", test = 0.1 }
size = 24
fit = "stretch"
padding_colour = [1, 2, 3]
scaling = { mean = [0.1, 0.2, 0.3], deviation = [0.5, 0.6, 0.7] }
columns = { path = "file name", label = "kind" }
classes = ["b", "a"]
[training]
epochs = 7
optimiser = { kind = "adamw", learning_rate = 1e-5 }
schedule = { kind = "plateau", factor = 0.3 }
loss = { class_weights = { "odd class" = 2 } }
augment = "strong"
[[backbone]]
name = "small"
file = "small.onnx"
features = "pool/out"
scaling = "unit"
[[backbone]]
name = "large"
file = "large.onnx"
[[candidate]]
name = "own"
regime = "scratch"
[[candidate.network.layers]]
kind = "convolution"
width = 8
[[candidate.network.layers]]
kind = "global average"
[[candidate.network.layers]]
kind = "dense"
[[candidate]]
name = "wide"
regime = "scratch"
network = { family = "inverted residual", stages = [{ width = 8, squeeze = true }] }
[[candidate]]
name = "deep"
regime = "scratch"
network = { family = "residual", widths = [8, 16], blocks = [2, 1] }
[[candidate]]
name = "shallow"
regime = "scratch"
network = { family = "residual" }
[[candidate]]
name = "part"
regime = "partial"
backbone = "small"
unfreeze = [{ epoch = 2, from = "s3" }, { epoch = 5, from = "s2" }]
learning_rate_factors = { s2 = 0.1 }
normalisation = "fixed"
[candidate.vary]
training.batch = [4, 8]
[[candidate]]
name = "exact"
regime = "frozen"
backbone = "large"
last_layer = "logistic regression"
l2_regularisation = 0.3
[[candidate]]
name = "views"
regime = "frozen"
backbone = "large"
head = { hidden = [5], activation = "leaky relu", dropout = 0.1 }
training = { steps = 90, views = 3, sampling = "balanced" }
)",
                                 "/plans/p.toml");
    ASSERT_EQ(plan.candidates.size(), 8U);
    for (const Candidate& candidate : plan.candidates) {
        const std::string text = plan_of_run(plan, candidate, 9, 2);
        const Plan again = parse_plan(text, "/elsewhere/q.toml");
        ASSERT_EQ(again.candidates.size(), 1U) << text;
        Json wanted = complete_json(settings_of(plan, candidate));
        wanted["images"]["parts"]["fold"] = 2;
        EXPECT_EQ(complete_json(settings_of(again, again.candidates[0])), wanted) << text;
        EXPECT_EQ(again.name, plan.name);
        EXPECT_EQ(again.candidates[0].name, candidate.name);
        EXPECT_THAT(again.seeds, testing::ElementsAre(9U));
        EXPECT_EQ(again.images.source.from, "/plans/index.csv");
        EXPECT_EQ(again.images.source.columns, plan.images.source.columns);
        EXPECT_EQ(again.images.scaling->numbers.mean, plan.images.scaling->numbers.mean);
        if (candidate.backbone == "small") {
            EXPECT_EQ(again.backbones[0].features, "pool/out");
            EXPECT_EQ(again.backbones[0].scaling->kind, ScalingKind::unit);
        }
    }
}

TEST(PlanOfRun, EveryFamilyReadsBack) {
    for (const char* family : {"residual", "plain", "perceptron", "densely connected", "inverted residual",
                               "vision transformer"}) {
        const Plan plan = parse_plan(images_table +
                                         "[[candidate]]\nname = \"it's `$(a)` \\\"b\\\"\"\nregime = "
                                         "\"scratch\"\nhead = { hidden = [] }\nnetwork = { family = \"" +
                                         std::string(family) + "\" }\n",
                                     "/plans/p.toml");
        const Candidate& candidate = plan.candidates[0];
        const Plan again = parse_plan(plan_of_run(plan, candidate, 1, 0), "q.toml");
        EXPECT_EQ(again.candidates[0].name, candidate.name);
        EXPECT_EQ(complete_json(settings_of(again, again.candidates[0])),
                  complete_json(settings_of(plan, candidate)))
            << family;
    }
}

}  // namespace
}  // namespace jevrin
