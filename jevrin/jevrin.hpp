// Everything of the library but pictures (jevrin/presentation.hpp).
//
//     jevrin::train_study(jevrin::read_plan("plan.toml"), "ledger");
//     const jevrin::Ledger ledger = jevrin::Ledger::open("ledger");
//     const jevrin::Choice choice = jevrin::choose(ledger, ledger.study());
//
// Each header holds one concept and can be included alone; docs/architecture.md has the rooms they lie in.
#pragma once

// base: errors, random streams, parallel loops, files, text
#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"
// images: find, decode, check, divide, prepare, augment, batch
#include "jevrin/images/batches.hpp"
#include "jevrin/images/composition.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/images/survey.hpp"
// graph, execution, exchange: networks as data, running them, model files
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/execution/activations.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/layer_table.hpp"
// training: one run, and what a trained model is
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/run_trainer.hpp"
// metrics: scores, intervals, thresholds, what an item contributes
#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/influence.hpp"
#include "jevrin/metrics/item_selection.hpp"
#include "jevrin/metrics/label_suspicion.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/metrics/significance.hpp"
#include "jevrin/metrics/threshold_curves.hpp"
// plan, ledger, study: what is compared, what happened, how it is carried out
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/plan/run_settings.hpp"
#include "jevrin/study/check.hpp"
#include "jevrin/study/features.hpp"
#include "jevrin/study/study.hpp"
// evaluation: one run or several of one kind, on one part
#include "jevrin/evaluation/corrections.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/evaluation/run_matrices.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/evaluation/score_report.hpp"
#include "jevrin/evaluation/suspects.hpp"
#include "jevrin/evaluation/threshold_report.hpp"
// comparison: across runs, and the choice
#include "jevrin/comparison/agreement.hpp"
#include "jevrin/comparison/amounts.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/curves.hpp"
#include "jevrin/comparison/diagnosis.hpp"
#include "jevrin/comparison/ledger_difference.hpp"
#include "jevrin/comparison/matrices.hpp"
#include "jevrin/comparison/run_table.hpp"
#include "jevrin/comparison/test_report.hpp"
