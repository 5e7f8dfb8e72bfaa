// Curves across runs: any recorded quantity over epochs, steps, seconds or examples, smoothed, and aggregated
// over the seeds of a candidate.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// The epochs of one run.
struct RunCurves {
    RunRecord run;
    std::vector<EpochRecord> epochs;
};
// Without confusion matrices.
RunCurves curves_of_run(const Ledger& ledger, const RunRecord& run);

enum class CurveQuantity { loss, objective, accuracy, balanced_accuracy, macro_f1, learning_rate };
const EnumNames<CurveQuantity>& names_of(CurveQuantity);
std::string spoken_quantity(CurveQuantity quantity);
CurveQuantity quantity_of(Metric metric);
// Whether it is measured on both parts: the objective and the learning rate belong to training alone.
bool is_on_both_parts(CurveQuantity quantity);

// What lies below: epochs, optimiser steps, seconds since the run began, examples seen (steps times the
// batch).
enum class CurveAxis { epoch, step, seconds, examples };
const EnumNames<CurveAxis>& names_of(CurveAxis);

// How curves are shown.
struct CurveView {
    std::vector<CurveQuantity> quantities = {CurveQuantity::loss, CurveQuantity::balanced_accuracy};
    CurveAxis axis = CurveAxis::epoch;
    double smoothing = 0.0;  // weight of what came before, in [0, 1): smoothed()
    bool log_scale = false;  // of values
};

enum class CurvePart { training, validation };

using CurvePoints = std::vector<std::pair<double, double>>;

// By epoch. Empty for validation of a quantity that belongs to training alone.
CurvePoints curve_points(const RunCurves& curves, CurveQuantity quantity, CurvePart part, CurveAxis axis);

// Exponentially weighted mean of what came before, corrected for the beginning: each value weighs (1 -
// weight) of what the one after it does, weight in [0, 1); 0 changes nothing.
CurvePoints smoothed(const CurvePoints& points, double weight);

// Curves of several runs put together, epoch by epoch as far as all of them reach: the mean, and the lowest
// and highest of them.
struct CurveBand {
    CurvePoints mean;
    std::vector<double> low;
    std::vector<double> high;
};
CurveBand band_of(const std::vector<CurvePoints>& curves);

// Runs of one candidate, in order of first appearance.
struct CandidateCurves {
    std::string candidate;
    Regime regime = Regime::scratch;
    std::vector<const RunCurves*> runs;
};
// Runs without an epoch are left out. Refers to the curves.
std::vector<CandidateCurves> by_candidate(const std::vector<RunCurves>& curves);

}  // namespace jevrin::inline v1
