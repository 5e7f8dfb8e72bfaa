// The study as a whole, the choice, settings of runs, curves.
#include "jevrin/base/error.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/pages/news.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/results/candidate_styles.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/diagnosis_result.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/training_result.hpp"

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_warnings = 100;

Json run_row(const RunRecord& run) {
    Json row = {{"run", run.name()},
                {"candidate", run.candidate},
                {"seed", run.seed},
                {"fold", run.fold},
                {"regime", name_of(run.regime)},
                {"state", run.external ? name_of(run.state) : spoken_state(run)},
                {"external", run.external ? Json(run.external->program) : Json()},
                {"reason", without_paths(run.reason)},
                {"epochs", run.epochs},
                {"planned_epochs", run.planned_epochs},
                {"best_epoch", run.best ? Json(run.best->epoch) : Json()},
                {"seconds", short_number(run.seconds)},
                {"parameters", run.parameters},
                {"trainable_parameters", run.trainable_parameters},
                {"multiplications", run.multiplications},
                {"image_set", run.image_set.number},
                {"image_set_version", run.image_set_version},
                {"tags", run.tags},
                {"note", run.note}};
    for (const Metric metric : all_metrics)
        row[name_of(metric)] = run.best ? short_number(validation_score(*run.best, metric)) : Json();
    row["loss"] = run.best ? short_number(run.best->validation_loss) : Json();
    return row;
}

Json warning_row(const RunRecord& run, const WarningRecord& warning) {
    return {{"run", run.name()}, {"epoch", warning.epoch}, {"message", without_paths(warning.message)}};
}

Json warning_rows(const Ledger& ledger, const std::vector<RunRecord>& runs) {
    Json rows = Json::array();
    for (const RunRecord& run : runs)
        for (const WarningRecord& warning : ledger.warnings(run.id))
            if (rows.size() < most_warnings) rows.push_back(warning_row(run, warning));
    return rows;
}

// image_set: that of the runs that are compared.
Json progress_data(const StudyProgress& progress) {
    const RunRecord* counted = run_that_counts(progress.study, progress.runs);
    return {{"image_set", counted == nullptr ? progress.study.image_set.number : counted->image_set.number},
            {"open", progress.open},
            {"in_training", progress.in_training},
            {"seconds_left", progress.seconds_left ? short_number(*progress.seconds_left) : Json()},
            {"fraction", short_number(progress.fraction)}};
}

// The axes of curves as columns, and each quantity on each part.
Json curve_columns(const RunCurves& curves) {
    Json columns = Json::object();
    const auto add = [&](const std::string& name, const CurvePoints& points, bool below) {
        Json values = Json::array();
        for (const auto& [x, y] : points) values.push_back(short_number(below ? x : y));
        columns[name] = std::move(values);
    };
    for (const CurveAxis axis : names_of(CurveAxis{}).values())
        add(name_of(axis), curve_points(curves, CurveQuantity::loss, CurvePart::training, axis), true);
    for (const CurveQuantity quantity : names_of(CurveQuantity{}).values()) {
        add("training_" + name_of(quantity),
            curve_points(curves, quantity, CurvePart::training, CurveAxis::epoch), false);
        if (is_on_both_parts(quantity))
            add("validation_" + name_of(quantity),
                curve_points(curves, quantity, CurvePart::validation, CurveAxis::epoch), false);
    }
    return columns;
}

}  // namespace

Json study_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery&) {
    const StudyProgress progress = report_progress(ledger, study);
    const std::vector<TestLook> looks = ledger.test_looks(study.id);
    const CandidateStyles styles(ledger.candidates(study.id));
    Json json = {{"study", study.name},
                 {"metric", name_of(study.metric)},
                 {"spoken_metric", spoken_metric(study.metric)},
                 {"margin", study.margin},
                 {"classes", study.classes},
                 {"image_set_version", study.image_set_version},
                 {"candidates", Json::array()},
                 {"runs", Json::array()},
                 {"parts", Json::object()},
                 {"progress", progress_data(progress)},
                 {"warnings", warning_rows(ledger, progress.runs)},
                 {"test_looks", looks.size()},
                 {"test_look_line", test_look_line(looks)}};
    for (const std::string& candidate : ledger.candidates(study.id))
        json["candidates"].push_back({{"candidate", candidate},
                                      {"letter", styles.letter(candidate)},
                                      {"colour", styles.colour(candidate)}});
    for (const RunRecord& run : progress.runs) json["runs"].push_back(run_row(run));
    if (!progress.runs.empty())
        for (const Part part : all_parts)
            json["parts"][name_of(part)] = ledger.count_items(progress.runs.front().split, part);
    return json;
}

Json choice_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    ChoiceQuery asked;
    if (!query.text("cost").empty()) asked.cost = value_named<Cost>(query.text("cost"));
    try {
        return parse_json(to_json(report_choice(ledger, study, asked)));
    } catch (const InputError& error) {  // no run is finished
        return {{"chosen", Json()}, {"reason", error.what()}};
    }
}

Json settings_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery&) {
    const RunsResult result = report_runs(ledger, study, {.differing = true});
    Json rows = Json::array();
    for (const RunRow& row : result.rows) {
        Json values = Json::object();
        for (const std::string& key : result.differing) values[key] = row.value(key).text;
        rows.push_back({{"run", row.run.name()}, {"settings", std::move(values)}});
    }
    return {{"differing", result.differing}, {"runs", std::move(rows)}};
}

Json curves_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    Json runs = Json::array();
    for (const RunCurves& curves : report_curves(ledger, study, query.list("runs")).curves)
        runs.push_back({{"run", curves.run.name()}, {"columns", curve_columns(curves)}});
    return {{"runs", std::move(runs)}};
}

Json news_data(const StudyFollower::News& news, const StudyProgress& progress, std::int64_t revision) {
    Json rows = Json::array();
    for (const RunRecord& run : news.changed) rows.push_back(run_row(run));
    Json warnings = Json::array();
    for (const auto& [run, warning] : news.warnings) warnings.push_back(warning_row(run, warning));
    return {{"revision", revision},
            {"runs", std::move(rows)},
            {"warnings", std::move(warnings)},
            {"progress", progress_data(progress)}};
}

}  // namespace jevrin::inline v1
