#include "jevrin/ledger/ledger.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/place_lock.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/ledger/statements.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
const EnumNames<RunState>& names_of(RunState) {
    static const EnumNames<RunState> names("state", {{RunState::waiting, "waiting"},
                                                     {RunState::training, "training"},
                                                     {RunState::finished, "finished"},
                                                     {RunState::failed, "failed"},
                                                     {RunState::unverified, "unverified"}});
    return names;
}

const std::vector<EpochColumn>& epoch_columns() {
    static const std::vector<EpochColumn> columns = [] {
        std::vector<EpochColumn> all = {{"epoch", &EpochRecord::epoch},
                                        {"step", &EpochRecord::step},
                                        {"training_loss", &EpochRecord::training_loss},
                                        {"objective", &EpochRecord::objective},
                                        {"validation_loss", &EpochRecord::validation_loss},
                                        {"learning_rate", &EpochRecord::learning_rate},
                                        {"seconds", &EpochRecord::seconds},
                                        {"data_seconds", &EpochRecord::data_seconds},
                                        {"compute_seconds", &EpochRecord::compute_seconds},
                                        {"validation_seconds", &EpochRecord::validation_seconds},
                                        {"memory_bytes", &EpochRecord::memory_bytes}};
        for (const Metric metric : all_metrics) {
            all.push_back(
                {"training_" + name_of(metric), EpochColumn::Score{&EpochRecord::training_scores, metric}});
            all.push_back({name_of(metric), EpochColumn::Score{&EpochRecord::validation_scores, metric}});
        }
        return all;
    }();
    return columns;
}

RecordedEpoch recorded_epoch(EpochRecord epoch, ConfusionMatrix validation) {
    epoch.validation_scores = scores_by_metric(validation.counts());
    return {epoch, std::move(validation)};
}

double validation_score(const EpochRecord& epoch, Metric metric) {
    return epoch.validation_scores[metric];
}

double training_score(const EpochRecord& epoch, Metric metric) {
    return epoch.training_scores[epoch.step == 0 ? Metric::accuracy : metric];
}

std::string path_of_item(const std::string& id) {
    return id.substr(0, id.rfind('#'));
}

std::string RunRecord::name() const {
    return fold > 0 ? fmt::format("{}/{}/{}", candidate, seed, fold) : fmt::format("{}/{}", candidate, seed);
}

bool RunRecord::is_over() const {
    return state == RunState::finished || state == RunState::failed || state == RunState::unverified;
}

void require_finished(const RunRecord& run) {
    if (run.state == RunState::unverified)
        throw InputError(fmt::format(
            "run '{}' was trained elsewhere and came without predictions: its scores are claimed, and "
            "nothing can be computed from them; add its predictions",
            printable(run.name())));
    if (run.external && run.state != RunState::finished)
        throw InputError(fmt::format("run '{}', trained elsewhere, is {}, not finished",
                                     printable(run.name()), name_of(run.state)));
    if (run.state != RunState::finished)
        throw InputError(fmt::format("run '{}' is {}, not finished; train it first", printable(run.name()),
                                     name_of(run.state)));
}

bool Ledger::exists(const std::filesystem::path& directory) {
    return std::filesystem::exists(directory / "ledger.db");
}

Ledger Ledger::open(const std::filesystem::path& directory) {
    if (!exists(directory))
        throw InputError(
            fmt::format("{}: there is no ledger here; train a plan first, or name another directory",
                        printable(directory.string())));
    return Ledger(std::make_shared<LedgerConnection>(directory, DatabaseAccess::read));
}

const std::filesystem::path& Ledger::directory() const {
    return connection_->directory;
}

std::int64_t Ledger::changes() const {
    return reading(*connection_, [&] {
        const std::int64_t seen = connection_->database->execAndGet("PRAGMA data_version").getInt64();
        return (connection_->opened << 32) + seen;
    });
}

std::filesystem::path Ledger::model_file(RunId run) const {
    return connection_->directory / "models" / fmt::format("run-{}.onnx", run.number);
}

std::filesystem::path Ledger::model_file(RunId run, std::int64_t epoch) const {
    return connection_->directory / "models" / fmt::format("run-{}-epoch-{}.onnx", run.number, epoch);
}

std::filesystem::path Ledger::checkpoint_file(RunId run) const {
    return connection_->directory / "checkpoints" / fmt::format("run-{}.checkpoint", run.number);
}

std::vector<std::filesystem::path> Ledger::model_files(RunId run) const {
    std::vector<std::filesystem::path> files;
    const std::string whole = model_file(run).filename().string();
    const std::string of_epochs = fmt::format("run-{}-epoch-", run.number);
    std::error_code none;
    for (const auto& entry : std::filesystem::directory_iterator(directory() / "models", none)) {
        const std::string name = entry.path().filename().string();
        if (name == whole || name.starts_with(of_epochs)) files.push_back(entry.path());
    }
    return files;
}

std::vector<std::string> Ledger::study_names() const {
    return reading(*connection_, [&] {
        std::vector<std::string> names;
        SQLite::Statement query(*connection_->database, "SELECT name FROM studies ORDER BY used DESC");
        while (query.executeStep()) names.push_back(query.getColumn(0));
        return names;
    });
}

StudyRecord Ledger::study(const std::string& name) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, fmt::format(R"sql(
            SELECT studies.id, studies.name, metric, root, image_sets.id, image_sets.version, source, margin,
                   most_seeds, ({}) AND ({}) AND ({})
            FROM studies JOIN splits ON splits.id = split JOIN image_sets ON image_sets.id = image_set
            WHERE ?1 = '' OR studies.name = ?1 ORDER BY used DESC LIMIT 1)sql",
                                                                    is_sealed("studies"), is_sealed("splits"),
                                                                    is_sealed("image_sets")));
        query.bind(1, name);
        if (!query.executeStep()) {
            const std::vector<std::string> names = study_names();
            if (names.empty())
                throw InputError(fmt::format("{}: no study has been trained yet; run 'jevrin train PLAN'",
                                             printable(connection_->directory.string())));
            throw InputError(fmt::format("{}: no study is called '{}'{}",
                                         printable(connection_->directory.string()), printable(name),
                                         did_you_mean(name, names)));
        }
        StudyRecord study{.id = {query.getColumn(0)},
                          .name = query.getColumn(1),
                          .metric = stored_value<Metric>(*connection_, query.getColumn(2)),
                          .image_root = query.getColumn(3),
                          .image_set = {query.getColumn(4)},
                          .image_set_version = query.getColumn(5),
                          .image_source = query.getColumn(6),
                          .margin = query.getColumn(7),
                          .most_seeds = query.getColumn(8)};
        if (query.getColumn(9).getInt() == 0)
            throw_damaged(connection_->file(), fmt::format("the study '{}'", printable(study.name)));
        verify_once(*connection_, SealedRows::classes, study.image_set.number);
        study.test_looks = std::ssize(test_looks(study.id));
        SQLite::Statement looks(*connection_->database,
                                fmt::format("SELECT seeds, {} FROM seed_looks WHERE study = ? ORDER BY seeds",
                                            is_sealed("seed_looks")));
        looks.bind(1, study.id.number);
        while (looks.executeStep()) {
            if (looks.getColumn(1).getInt() == 0)
                throw_damaged(connection_->file(), "the list of looks at seeds");
            study.seed_looks.push_back(looks.getColumn(0));
        }
        SQLite::Statement classes(*connection_->database,
                                  "SELECT name FROM classes WHERE image_set = ? ORDER BY class");
        classes.bind(1, query.getColumn(4).getInt64());
        while (classes.executeStep()) study.classes.push_back(classes.getColumn(0));
        return study;
    });
}

std::string Ledger::select_text(const char* sql, std::int64_t number, const char* what) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, sql);
        query.bind(1, number);
        if (!query.executeStep()) throw_no_row(*connection_, number, what);
        return query.getColumn(0).getString();
    });
}

std::string Ledger::settings(RunId run) const {
    return select_text("SELECT settings FROM runs WHERE id = ?", run.number, "run");
}

std::string Ledger::plan(RunId run) const {
    return select_text("SELECT plan FROM runs WHERE id = ?", run.number, "run");
}

std::string Ledger::environment(RunId run) const {
    return select_text("SELECT environment FROM runs WHERE id = ?", run.number, "run");
}

bool Ledger::is_claimed(RunId run) const {
    return PlaceLock::is_held(connection_->claims_file(), run.number);
}

std::vector<LayerSummary> Ledger::layers(RunId run, std::int64_t epoch) const {
    return reading(*connection_, [&] {
        require_row(*connection_, "runs", run, "run");
        verify(*connection_, SealedRows::layers, "run = ? AND epoch = ?", {run.number, epoch});
        SQLite::Statement query(
            *connection_->database,
            fmt::format("SELECT name, {} FROM layer_epochs JOIN layers USING (run, layer) WHERE run = ? AND "
                        "epoch = ? ORDER BY layer",
                        column_names(layer_columns)));
        query.bind(1, run.number);
        query.bind(2, epoch);
        std::vector<LayerSummary> layers;
        while (query.executeStep()) {
            LayerSummary& layer = layers.emplace_back();
            layer.layer = query.getColumn(0).getString();
            int place = 1;
            for (const LayerColumn& column : layer_columns) {
                layer.*column.member = query.isColumnNull(place) ? -1.0 : query.getColumn(place).getDouble();
                ++place;
            }
        }
        return layers;
    });
}

std::vector<WarningRecord> Ledger::warnings(RunId run) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(
            *connection_->database,
            fmt::format("SELECT epoch, message, {} FROM warnings WHERE run = ? ORDER BY id",
                        is_sealed("warnings")));
        query.bind(1, run.number);
        std::vector<WarningRecord> warnings;
        while (query.executeStep()) {
            if (query.getColumn(2).getInt() == 0) throw_damaged(connection_->file(), "a warning");
            warnings.push_back({query.getColumn(0), query.getColumn(1)});
        }
        return warnings;
    });
}

std::string Ledger::study_root(StudyId study) const {
    return select_text(
        "SELECT root FROM image_sets JOIN splits ON image_set = image_sets.id JOIN studies ON split = "
        "splits.id WHERE studies.id = ?",
        study.number, "study");
}

std::optional<std::string> Ledger::model_hash(RunId run, std::int64_t epoch) const {
    return reading(*connection_, [&]() -> std::optional<std::string> {
        SQLite::Statement query(
            *connection_->database,
            fmt::format("SELECT hash, {} FROM models WHERE run = ? AND epoch = ?", is_sealed("models")));
        query.bind(1, run.number);
        query.bind(2, epoch);
        if (!query.executeStep()) return std::nullopt;
        if (query.getColumn(1).getInt() == 0) throw_damaged(connection_->file(), "the hash of a model");
        return query.getColumn(0).getString();
    });
}

std::string Ledger::checkpoint_owner(RunId run) const {
    return fmt::format("{} {}", identity(), run.number);
}

std::string Ledger::identity() const {
    return reading(*connection_, [&] {
        return connection_->database->execAndGet("SELECT identity FROM ledger").getString();
    });
}

std::string Ledger::image_fingerprint(RunId run) const {
    return select_text(
        "SELECT fingerprint FROM image_sets JOIN splits ON image_set = image_sets.id JOIN runs ON "
        "runs.split = splits.id WHERE runs.id = ?",
        run.number, "run");
}

}  // namespace jevrin::inline v1
