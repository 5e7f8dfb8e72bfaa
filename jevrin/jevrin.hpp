// Everything of the library but figures (jevrin/presentation.hpp).
//
//     jevrin::train_study(jevrin::read_plan("plan.toml"), "ledger");
//     const jevrin::Ledger ledger = jevrin::Ledger::open("ledger");
//     const jevrin::ChoiceResult result = jevrin::report_choice(ledger, ledger.study());
//     to_text(result), to_json(result) ...
//
// Each header holds one concept and can be included alone. docs/library.md says which of them are stable.
#pragma once

// Errors, and how much of the machine is used
#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/threads.hpp"
#include "jevrin/base/version.hpp"
// Images: find, check, divide, prepare, compose
#include "jevrin/images/composition.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/prepared_images.hpp"
// Networks: as data, made by families, in model files, at work
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/stages.hpp"
// Training: one run, and what a trained model is
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/run_trainer.hpp"
// Metrics: scores, intervals, thresholds, what an item contributes
#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/influence.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/metrics/significance.hpp"
// Studies: what is compared, how it is carried out, what happened
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"
// Results: every answer as a value, with its JSON, its table and its text
#include "jevrin/results/agreement_result.hpp"
#include "jevrin/results/batch_script_result.hpp"
#include "jevrin/results/check_result.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/confusion_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/diagnosis_result.hpp"
#include "jevrin/results/draft_result.hpp"
#include "jevrin/results/external_result.hpp"
#include "jevrin/results/item_result.hpp"
#include "jevrin/results/mistakes_result.hpp"
#include "jevrin/results/model_results.hpp"
#include "jevrin/results/recall_result.hpp"
#include "jevrin/results/received_result.hpp"
#include "jevrin/results/run_result.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/scores_result.hpp"
#include "jevrin/results/survey_result.hpp"
#include "jevrin/results/suspects_result.hpp"
#include "jevrin/results/thresholds_result.hpp"
#include "jevrin/results/training_sizes_result.hpp"
