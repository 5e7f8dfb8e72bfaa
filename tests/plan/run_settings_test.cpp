// What identifies a run: settings in their canonical form.
#include "jevrin/plan/run_settings.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

RunSettings settings_from(const std::string& training, const std::string& candidate = "") {
    const Plan plan = parse_plan(R"(name = "p"
[images]
from = "x"
parts = { training = 0.6, validation = 0.2, test = 0.2 }
[training]
)" + training + R"(
[[candidate]]
name = "a"
regime = "scratch"
network = { family = "plain" }
)" + candidate,
                                 "p.toml");
    return settings_of(plan, plan.candidates[0]);
}

TEST(RunIdentity, LeavesOutWhatStandsAtItsDefault) {
    const Json plain = parse_json(identity_of(settings_from("")));
    EXPECT_FALSE(plain.contains("training"));
    EXPECT_FALSE(plain.contains("head"));
    EXPECT_EQ(plain.at("version"), 1);
    const Json changed = parse_json(identity_of(settings_from("batch = 8\nschedule = \"cosine\"")));
    EXPECT_EQ(json_text(changed.at("training")), R"({"batch":8,"schedule":{"kind":"cosine"}})");
}

TEST(RunIdentity, IsThatOfThePlanHoweverItIsWritten) {
    const std::string short_form = identity_of(settings_from("schedule = \"cosine\"\naugment = \"light\""));
    const std::string long_form = identity_of(settings_from(R"(epochs = 15
batch = 32
schedule = { kind = "cosine", warm_up = 0, final_fraction = 0.0 }
augment = { flip = true, shift = 0.05, mixing = { form = "none" } }
optimiser = { kind = "sgd", learning_rate = 5e-2, momentum = 0.9, weight_decay = 0.0005 }
loss = { class_weights = "none", focal_gamma = 0 })"));
    EXPECT_EQ(short_form, long_form);
    EXPECT_NE(short_form, identity_of(settings_from("schedule = \"linear\"\naugment = \"light\"")));
}

TEST(RunIdentity, WhatIsUsualForAKindIsADefaultToo) {
    const std::string adam = identity_of(settings_from("optimiser = { kind = \"adamw\" }"));
    EXPECT_EQ(adam, identity_of(settings_from("optimiser = { kind = \"adamw\", learning_rate = 0.001 }")));
    EXPECT_NE(adam, identity_of(settings_from("optimiser = { kind = \"adamw\", learning_rate = 0.05 }")));
}

TEST(RunIdentity, EverySettingCounts) {
    const std::string plain = identity_of(settings_from(""));
    for (const char* changed :
         {"epochs = 3", "minutes = 1", "validate_every = 2", "patience = 1", "training_fraction = 0.5",
          "optimiser = { nesterov = true }", "schedule = { warm_up = 1 }", "loss = { focal_gamma = 1 }",
          "loss = { class_weights = { a = 2 } }", "sampling = \"balanced\"", "gradient_clipping = 1",
          "ema_decay = 0.5", "augment = { rotation = 3 }", "augment = { mixing = { form = \"cutmix\" } }"})
        EXPECT_NE(identity_of(settings_from(changed)), plain) << changed;
    for (const char* changed : {"head = { hidden = [4] }", "learning_rate_factors = { stage1 = 0.1 }"})
        EXPECT_NE(identity_of(settings_from("", changed)), plain) << changed;
}

TEST(RunSettings, ReadBackAreTheSame) {
    RunSettings settings =
        settings_from("batch = 8\nviews = 0\noptimiser = { kind = \"adam\", beta1 = 0.8 }");
    settings.images.fingerprint = "abc";
    settings.backbone = "def";
    settings.scaling = {{0.1, 0.2, 1.0 / 3}, {0.3, 0.4, 0.5}};
    const RunSettings again = parse_settings(to_text(settings));
    EXPECT_EQ(to_text(again), to_text(settings));
    EXPECT_EQ(identity_of(again), identity_of(settings));
    EXPECT_EQ(again.candidate.training.optimiser.beta1, 0.8);
}

TEST(RunSettings, MeasuredNumbersMayDifferInTheirLastBits) {
    RunSettings a = settings_from("");
    RunSettings b = a;
    a.scaling.mean = {0.16736544223756702, 0.5, 0.5};
    b.scaling.mean = {0.1673654422375671, 0.5, 0.5};
    EXPECT_EQ(identity_of(a), identity_of(b));
    b.scaling.mean[0] += 1e-6;
    EXPECT_NE(identity_of(a), identity_of(b));
}

TEST(RunSettings, AnEarlierNameOfAKeyIsStillRead) {
    const RunSettings settings = parse_settings(
        R"({"regime": "frozen", "learner": "logistic regression", "penalty": 2.0, "metric": "accuracy"})");
    EXPECT_EQ(settings.candidate.last_layer, LastLayer::logistic_regression);
    EXPECT_EQ(settings.candidate.l2_regularisation, 2.0);
    EXPECT_THAT(to_text(settings), HasSubstr(R"("last_layer":"logistic regression")"));
    EXPECT_THAT(message_of<InputError>([] { parse_settings(R"({"regime": "frozen", "tutor": 1})"); }),
                HasSubstr("has no key 'tutor'"));
    EXPECT_THAT(message_of<InputError>([] { parse_settings("no JSON"); }), HasSubstr("not JSON"));
}

}  // namespace
}  // namespace jevrin
