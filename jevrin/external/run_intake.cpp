#include "jevrin/external/run_intake.hpp"

#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/external_model.hpp"
#include "jevrin/external/statement_reader.hpp"
#include "jevrin/metrics/predictions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t longest_reason = 2'000;
// Epochs that may come before those before them.
constexpr std::int64_t most_waiting = 1'000;

RunIdentity identity_of(const RunStatement& run, SplitId split) {
    return {.candidate = run.candidate,
            .regime = run.regime,
            .seed = run.seed,
            .fold = run.fold,
            .split = split,
            .settings = run.settings,
            .identity = "elsewhere " + content_hash(to_text(run)),
            .planned_epochs = run.planned_epochs,
            .batch = run.batch,
            .training_fraction = run.training_fraction,
            .parameters = run.parameters,
            .trainable_parameters = run.trainable_parameters,
            .multiplications = run.multiplications};
}

std::string environment_of(const RunStatement& run) {
    return json_text({{"program", run.program}, {"hardware", run.hardware}});
}

// Classes in the study's order, as the ledger keeps what waits.
ValidationRows in_study_order(ValidationRows rows) {
    std::iota(rows.columns.begin(), rows.columns.end(), 0);
    return rows;
}

ConfusionMatrix matrix_of(const std::vector<PredictionRecord>& predictions, std::size_t classes) {
    ConfusionMatrix matrix(classes);
    for (const PredictionRecord& one : predictions) matrix.add(one.label, one.predicted);
    return matrix;
}

double cross_entropy(const std::vector<PredictionRecord>& predictions) {
    constexpr float least = 1e-12F;
    double sum = 0.0;
    for (const PredictionRecord& one : predictions)
        sum -= std::log(std::max(one.probabilities[one.label], least));
    return sum / static_cast<double>(predictions.size());
}

std::int64_t right_in(const ConfusionMatrix& matrix) {
    std::int64_t right = 0;
    for (std::size_t c = 0; c < matrix.classes(); ++c) right += matrix.at(c, c);
    return right;
}

// ConflictError when it was trained here.
RunRecord external_run(const Ledger& ledger, RunId run) {
    RunRecord record = ledger.run_by_id(run);
    if (!record.external)
        throw ConflictError(
            fmt::format("run '{}' was trained here; nothing can be added to it", printable(record.name())));
    return record;
}

void require_open(const RunRecord& run) {
    if (run.is_over())
        throw ConflictError(fmt::format("run '{}' is {}; nothing can be added to it", printable(run.name()),
                                        name_of(run.state)));
}

}  // namespace

RunIntake::Created RunIntake::create(const RunStatement& statement) {
    const StudyRecord study = study_called(ledger(), statement.study);
    const std::optional<SplitId> split = ledger().find_split(statement.split);
    if (!split)
        throw InputError(
            fmt::format("the ledger knows no split '{}'; train on the parts that it lists, and state the "
                        "split as that list does",
                        printable(statement.split)));
    Created created;
    writer_.together([&] {
        for (const RunRecord& run : ledger().runs(study.id)) {
            if (run.candidate == statement.candidate && run.regime != statement.regime)
                throw ConflictError(
                    fmt::format("the study has '{}' with the regime {}; a candidate has one regime",
                                printable(run.name()), name_of(run.regime)));
            if (run.name() != statement.name()) continue;
            if (!run.external)
                throw ConflictError(
                    fmt::format("the study has a run '{}' that was trained here; name the candidate "
                                "otherwise",
                                printable(run.name())));
            if (ledger().external_statement(run.id) != to_text(statement))
                throw ConflictError(
                    fmt::format("the study has a run '{}' that states something else; name the "
                                "candidate otherwise, or delete that run",
                                printable(run.name())));
            created.run = run.id;
            return;
        }
        for (const RunRecord& run : ledger().archived_runs(study.id))
            if (run.name() == statement.name())
                throw ConflictError(fmt::format(
                    "the study has an archived run '{}'; bring it back, or name the candidate otherwise",
                    printable(run.name())));
        // What it states of its rows is held against the part before anything is recorded.
        ValidationRows rows = validation_rows(ledger(), study, *split, statement.items, statement.classes);
        created = {.run = writer_.put_run(study.id, identity_of(statement, *split)), .is_new = true};
        writer_.put_external(created.run, to_text(statement));
        writer_.begin_run(created.run, "", environment_of(statement));
        rows_.insert_or_assign(created.run, std::move(rows));
        open_.erase(created.run);
    });
    return created;
}

StudyRecord study_called(const Ledger& ledger, const std::string& name) {
    const std::vector<std::string> names = ledger.study_names();
    if (names.empty()) throw InputError("the ledger has no study yet");
    if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end())
        throw InputError(
            fmt::format("the ledger has no study '{}'{}", printable(name), did_you_mean(name, names)));
    return ledger.study(name);
}

ValidationRows rows_of_run(const Ledger& ledger, RunId run) {
    const RunRecord record = external_run(ledger, run);
    const RunStatement statement =
        read_run_statement(parse_json(ledger.external_statement(run)), record.name());
    return validation_rows(ledger, ledger.study(record.study), record.split, statement.items,
                           statement.classes);
}

RunRecord RunIntake::require_external(RunId run) const {
    return external_run(ledger(), run);
}

const ValidationRows& RunIntake::rows(RunId run) {
    const auto known = rows_.find(run);
    if (known != rows_.end()) return known->second;
    return rows_[run] = rows_of_run(ledger(), run);
}

bool RunIntake::add_epoch(RunId id, const Json& json, const std::string& place) {
    return add_epoch(id, read_epoch_statement(json, rows(id), place), place);
}

bool RunIntake::add_epoch(RunId id, const EpochStatement& statement, const std::string& place) {
    const std::int64_t epoch = statement.epoch.epoch;
    const std::string& content = statement.content;
    bool is_new = false;
    const auto add = [&] {
        if (const auto known = ledger().external_epoch(id, epoch)) {
            if (known->content == content) return;
            throw ConflictError(
                fmt::format("{}: epoch {} is recorded already, with something else", place, epoch));
        }
        OpenRun& run = open_run(id);
        if (epoch > run.epochs + most_waiting)
            throw InputError(fmt::format("{}: epoch {} is {} behind the last one of '{}'; at most {} wait",
                                         place, epoch, epoch - run.epochs, printable(run.name),
                                         most_waiting));
        is_new = true;
        const bool is_next = epoch == run.epochs + 1;
        writer_.put_external_epoch(id, {.epoch = epoch,
                                        .content = content,
                                        .waiting = is_next ? "" : to_text(statement),
                                        .numbers = json_text(Json(statement.numbers))});
        if (!is_next) return;
        record(id, run, statement);
        record_those_waiting(id, run);
    };
    try {
        writer_.together(add);
    } catch (...) {
        open_.erase(id);  // what was taken back is not known any more
        throw;
    }
    return is_new;
}

RunIntake::OpenRun& RunIntake::open_run(RunId id) {
    if (const std::int64_t changes = ledger().changes(); changes != changes_) {
        changes_ = changes;
        open_.clear();
    }
    if (const auto known = open_.find(id); known != open_.end()) return known->second;
    const RunRecord run = require_external(id);
    require_open(run);
    OpenRun open{.name = run.name(),
                 .metric = ledger().study(run.study).metric,
                 .epochs = run.epochs,
                 .predicts_epochs = ledger().has_epoch_predictions(id)};
    if (run.best) open.best = {validation_score(*run.best, open.metric), run.best->validation_loss};
    return open_[id] = std::move(open);
}

// Those behind the last recorded one, as far as they are there.
void RunIntake::record_those_waiting(RunId id, OpenRun& run) {
    for (;;) {
        auto next = ledger().external_epoch(id, run.epochs + 1);
        if (!next) return;
        const std::string place = fmt::format("epoch {}", next->epoch);
        record(id, run, read_epoch_statement(parse_json(next->waiting), in_study_order(rows(id)), place));
        next->waiting.clear();
        writer_.put_external_epoch(id, *next);
    }
}

void RunIntake::record(RunId id, OpenRun& run, const EpochStatement& statement) {
    const RecordedEpoch& epoch = statement.epoch;
    if (epoch.epoch > 1 && run.predicts_epochs == statement.predicted.empty())
        throw InputError(
            fmt::format("epoch {} of '{}' {} 'predicted', epoch 1 {}; state it of every epoch or of none",
                        epoch.epoch, printable(run.name), run.predicts_epochs ? "does not state" : "states",
                        run.predicts_epochs ? "did" : "did not"));
    std::vector<ItemPrediction> predicted;
    const ValidationRows& part = rows(id);
    for (std::size_t i = 0; i < statement.predicted.size(); ++i)
        predicted.push_back({part.items[i], statement.predicted[i]});
    const double score = validation_score(epoch, run.metric);
    const bool is_best = !run.best || (std::isnan(run.best->first) && !std::isnan(score)) ||
                         score > run.best->first ||
                         (!(score < run.best->first) && epoch.validation_loss < run.best->second);
    writer_.record_epoch(id, epoch, is_best, {}, {}, predicted);
    run.epochs = epoch.epoch;
    run.predicts_epochs = !predicted.empty();
    if (is_best) run.best = {score, epoch.validation_loss};
}

bool RunIntake::add_predictions(RunId id, std::string_view bytes, PredictionForm form,
                                const std::string& place) {
    const ValidationRows& part = rows(id);
    return add_predictions(id, prediction_records(part, read_stated_predictions(bytes, form, part, place)),
                           place);
}

bool RunIntake::add_predictions(RunId id, const std::vector<PredictionRecord>& records,
                                const std::string& place) {
    bool is_new = false;
    writer_.together([&] {
        const RunRecord run = require_external(id);
        std::vector<PredictionRecord> known = ledger().predictions(id, Part::validation);
        if (!known.empty()) {
            std::vector<PredictionRecord> stated = records;
            std::sort(stated.begin(), stated.end(),
                      [](const PredictionRecord& a, const PredictionRecord& b) { return a.item < b.item; });
            if (std::equal(known.begin(), known.end(), stated.begin(), stated.end(),
                           [](const PredictionRecord& a, const PredictionRecord& b) {
                               return a.item == b.item && a.probabilities == b.probabilities;
                           }))
                return;
            throw ConflictError(
                fmt::format("{}: '{}' has other predictions already", place, printable(run.name())));
        }
        require_open(run);
        is_new = true;
        writer_.put_validation_predictions(id, records);
        if (const std::string doubt = class_order_doubt(rows(id), records); !doubt.empty())
            writer_.put_warning(id, run.epochs, doubt);
    });
    return is_new;
}

bool RunIntake::finish(RunId id, std::int64_t best_epoch) {
    open_.erase(id);
    bool is_new = false;
    writer_.together([&] {
        const RunRecord run = require_external(id);
        if (run.state == RunState::finished || run.state == RunState::unverified) return;
        require_open(run);
        is_new = true;
        const std::vector<PredictionRecord> predictions = ledger().predictions(id, Part::validation);
        const IntakeState now = state(id);
        if (!now.waiting.empty())
            throw ConflictError(fmt::format("epoch {} of '{}' has not come yet; later ones wait for it",
                                            run.epochs + 1, printable(run.name())));
        if (run.epochs == 0 && predictions.empty())
            throw InputError(
                fmt::format("run '{}' has neither epochs nor predictions", printable(run.name())));
        if (best_epoch > std::max<std::int64_t>(run.epochs, 1))
            throw InputError(fmt::format("the best epoch is {}; '{}' has {}", best_epoch,
                                         printable(run.name()), plural(run.epochs, "epoch")));
        if (predictions.empty()) {
            if (best_epoch > 0) writer_.put_best_epoch(id, best_epoch);
            writer_.finish_unverified(id);
            return;
        }
        const ConfusionMatrix matrix = matrix_of(predictions, rows(id).classes.size());
        if (run.epochs == 0) {
            constexpr double unknown = std::numeric_limits<double>::quiet_NaN();
            EpochRecord only{.epoch = 1,
                             .training_loss = unknown,
                             .objective = unknown,
                             .validation_loss = cross_entropy(predictions),
                             .learning_rate = unknown,
                             .seconds = unknown};
            for (const Metric metric : all_metrics) only.training_scores[metric] = unknown;
            writer_.record_epoch(id, recorded_epoch(only, matrix), true);
        } else {
            if (best_epoch == 0) best_epoch = run.best->epoch;
            writer_.put_best_epoch(id, best_epoch);
            const RecordedEpoch best = ledger().epochs(id, {best_epoch, best_epoch}).front();
            if (best.validation.total() == 0) {
                note_claims(run, best, matrix);
                writer_.put_matrix(id, best_epoch, matrix);
            } else if (!same_counts(best.validation, matrix)) {
                throw InputError(fmt::format(
                    "the predictions of '{}' are those of another epoch: {} are right, and {} by the counts "
                    "of "
                    "epoch {}, the best one; state which epoch they belong to, or send those of epoch {}",
                    printable(run.name()), right_in(matrix), right_in(best.validation), best_epoch,
                    best_epoch));
            }
        }
        const RunStatement statement =
            read_run_statement(parse_json(ledger().external_statement(id)), run.name());
        writer_.finish_run(id, predictions, "", statement.prediction_cost);
    });
    return is_new;
}

// A warning when an epoch claims other scores than its predictions give.
void RunIntake::note_claims(const RunRecord& run, const RecordedEpoch& best, const ConfusionMatrix& matrix) {
    const MetricScores counted = scores_by_metric(matrix.counts());
    for (const Metric metric : all_metrics)
        if (std::abs(best.validation_scores[metric] - counted[metric]) > rounding_of_claims)
            writer_.put_warning(
                run.id, best.epoch,
                fmt::format("it claims {} {:.4f} for this epoch; its predictions give {:.4f}, which "
                            "counts",
                            name_of(metric), best.validation_scores[metric], counted[metric]));
}

// The file first, then the transaction that says whose it is.
bool RunIntake::add_model(RunId id, const std::filesystem::path& file) {
    const RunRecord run = require_external(id);
    if (ledger().model_hash(id)) return false;
    writer_.require_in_place();
    const StoredModel stored = store_external_model(file, ledger(), run);
    writer_.put_model(id, stored.hash, stored.cost);
    return true;
}

void RunIntake::put_model(RunId id, const StoredModel& stored) {
    writer_.put_model(id, stored.hash, stored.cost);
}

bool RunIntake::fail(RunId id, const std::string& reason) {
    const std::string text = printable(reason.substr(0, longest_reason));
    open_.erase(id);
    bool is_new = false;
    writer_.together([&] {
        const RunRecord run = require_external(id);
        if (run.state == RunState::failed && run.reason == text) return;
        require_open(run);
        is_new = true;
        writer_.fail_run(id, text);
    });
    return is_new;
}

IntakeState intake_state(const Ledger& ledger, RunId id) {
    IntakeState state{.run = external_run(ledger, id), .waiting = {}};
    for (const ExternalEpoch& epoch : ledger.external_epochs(id))
        if (!epoch.waiting.empty()) state.waiting.push_back(epoch.epoch);
    state.has_predictions = !ledger.outcomes(id, Part::validation).empty();
    return state;
}

}  // namespace jevrin::inline v1
