// Every form of the results of one made-up study, against what was read once.
#include "support/recorded_text.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/results/agreement_result.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/confusion_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/diagnosis_result.hpp"
#include "jevrin/results/marks_result.hpp"
#include "jevrin/results/mistakes_result.hpp"
#include "jevrin/results/recall_result.hpp"
#include "jevrin/results/run_result.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/scores_result.hpp"
#include "jevrin/results/suspects_result.hpp"
#include "jevrin/results/training_result.hpp"

namespace jevrin {
namespace {

class Recorded : public test::StudyWithEverything {
  protected:
    static RunPredictions predictions(const std::string& run) {
        return open_predictions(ledger(), study(), {.run = run});
    }
    // Text, JSON and, where there is a table, CSV.
    template <typename Result>
    static void expect(const std::string& name, const Result& result) {
        std::string text =
            to_text(result, {.width = 120}) + "\n---\n" + json_text(parse_json(to_json(result)), 1) + "\n";
        if constexpr (requires { to_table(result).csv(); }) text += "---\n" + to_table(result).csv();
        test::expect_recorded("results/" + name, std::move(text), directory_->path());
    }
};

TEST_F(Recorded, Runs) {
    expect("runs", report_runs(ledger(), study(), {.differing = true}));
    expect("runs of a regime",
           report_runs(ledger(), study(), {.conditions = {"regime=partial"}, .sort = "-accuracy"}));
    expect("groups of runs", group_runs(report_runs(ledger(), study()), "batch"));
    test::expect_recorded(
        "results/run",
        json_text(parse_json(to_json(report_run(ledger(), study(), "last stage/2"))), 1) + "\n",
        directory_->path());
    expect("progress", report_progress(ledger(), study()));
}

TEST_F(Recorded, Choices) {
    for (const Cost cost : {Cost::training_seconds, Cost::trained_parameters, Cost::latency})
        expect("choice by " + name_of(cost), report_choice(ledger(), study(), {.cost = cost, .pairs = true}));
}

TEST_F(Recorded, Curves) {
    expect("curves", report_curves(ledger(), study(), {"new head", "last stage/1"}));
    expect("diagnoses", report_diagnoses(ledger(), study()));
}

TEST_F(Recorded, WhatARunPredicted) {
    expect("classes", report_classes(predictions("last stage/1")));
    expect("mistakes", report_mistakes(predictions("last stage/1")));
    expect("scores", report_scores(ledger(), predictions("last stage/1")));
    expect("confusion", report_confusion(ledger(), study(), {.runs = {"last stage"}}));
}

TEST_F(Recorded, ComparedRuns) {
    expect("difference",
           report_difference(ledger(), study(), {"last stage"}, {"from scratch: learning_rate 0.1"}));
    expect("mean confusion", report_mean_confusion(ledger(), study(), {.runs = {"last stage", "new head"}}));
    expect("recalls", report_recalls(ledger(), study()));
    expect("agreement", report_agreement(ledger(), study(), {.group = ItemGroup::disputed}));
    expect("suspects", report_suspects(ledger(), study(), {"last stage"}, SuspectSource::recorded));
    expect("marks", report_marks(ledger(), study()));
}

// What is left out of long lists, and how it is said.
class RecordedMany : public test::StudyOfMany {
  protected:
    template <typename Result>
    static void expect(const std::string& name, const Result& result, std::size_t width = 160) {
        test::expect_recorded("results/many " + name, to_text(result, {.width = width}) + "\n",
                              directory_->path());
    }
};

TEST_F(RecordedMany, Candidates) {
    expect("runs", report_runs(ledger(), study(), {.differing = true}));
    expect("choice", report_choice(ledger(), study(), {.pairs = true}));
    expect("choice in a narrow window", report_choice(ledger(), study(), {}), 60);
    expect("curves", report_curves(ledger(), study(), {"candidate 00"}));
    expect("diagnoses", report_diagnoses(ledger(), study()));
    expect("progress", report_progress(ledger(), study()));
    expect("recalls", report_recalls(ledger(), study()));
    expect("agreement", report_agreement(ledger(), study(), {.group = ItemGroup::disputed}));
}

TEST_F(RecordedMany, Classes) {
    const RunPredictions predictions = open_predictions(ledger(), study(), {.run = "candidate 00/1"});
    expect("classes", report_classes(predictions));
    expect("mistakes", report_mistakes(predictions));
    expect("confusion", report_confusion(ledger(), study(), {.runs = {"candidate 00"}}));
    expect("confusion in a narrow window", report_confusion(ledger(), study(), {.runs = {"candidate 00"}}),
           60);
    expect("difference", report_difference(ledger(), study(), {"candidate 00"}, {"candidate 01+"}));
    expect("mean confusion",
           report_mean_confusion(ledger(), study(), {.runs = {"candidate 00", "candidate 01+"}}));
    expect("suspects", report_suspects(ledger(), study(), {"candidate 00"}, SuspectSource::recorded));
    expect("marks", report_marks(ledger(), study()));
}

}  // namespace
}  // namespace jevrin
