// A ledger of many runs, made up: one run is recorded, the others are copied from it inside the database with
// other curves and predictions.
#pragma once

#include "jevrin/base/random.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <zlib.h>

#include <cmath>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::bench {

struct LargeLedger {
    std::int64_t candidates = 200;
    std::int64_t seeds = 5;
    std::int64_t epochs = 200;
    std::size_t classes = 50;
    std::size_t items_per_class = 50;  // of them 12 in validation
};

inline std::vector<ItemPrediction> classes_of_items(const std::vector<PredictionRecord>& predictions) {
    std::vector<ItemPrediction> classes;
    for (const PredictionRecord& prediction : predictions)
        classes.push_back({prediction.item, prediction.predicted});
    return classes;
}

// What a copied run predicts, as the ledger keeps it: a byte for each item, deflated (docs/formats.md).
inline void put_cross_fitted(SQLite::Database& database, std::int64_t run) {
    SQLite::Statement query(database, "SELECT predicted FROM predictions WHERE run = ? ORDER BY item");
    query.bind(1, run);
    std::string bytes;
    while (query.executeStep()) bytes += static_cast<char>(query.getColumn(0).getInt());
    uLongf length = compressBound(bytes.size());
    std::string blob(4 + length, '\0');
    for (std::size_t byte = 0; byte < 4; ++byte)
        blob[byte] = static_cast<char>(bytes.size() >> (8 * byte) & 0xFFU);
    compress(reinterpret_cast<Bytef*>(blob.data() + 4), &length, reinterpret_cast<const Bytef*>(bytes.data()),
             bytes.size());
    SQLite::Statement insert(database, "INSERT INTO cross_fitted (run, metric, predicted) VALUES (?, ?, ?)");
    insert.bind(1, run);
    insert.bind(2, "balanced_accuracy");
    insert.bind(3, blob.data(), static_cast<int>(4 + length));
    insert.exec();
}

inline RunId record_first_run(LedgerWriter& ledger, const LargeLedger& size) {
    ImageSet set;
    set.root = "made-up";
    set.fingerprint = "made up";
    Parts parts;
    for (std::size_t c = 0; c < size.classes; ++c) {
        set.classes.push_back(fmt::format("class {:03}", c));
        for (std::size_t i = 0; i < size.items_per_class; ++i) {
            const std::string path = fmt::format("{}/{:04}.png", set.classes[c], i);
            (i % 4 == 0 ? parts.validation : parts.training).push_back(set.items.size());
            set.items.push_back(
                {.path = path, .label = c, .id = fmt::format("{}#{:032x}", path, 1000 * c + i)});
        }
    }
    const StudyId study = ledger.put_study("large", Metric::balanced_accuracy, set, parts);
    const RunId run = ledger.put_run(
        study, {.candidate = "c000",
                .regime = Regime::scratch,
                .seed = 1,
                .settings = R"({"training": {"batch": 32, "optimiser": {"learning_rate": 0.01}}})",
                .planned_epochs = size.epochs,
                .parameters = 100'000,
                .trainable_parameters = 50'000});
    RandomStream random({.seed = 1, .purpose = Purpose::sample});
    std::vector<PredictionRecord> predictions;
    for (std::int64_t epoch = 1; epoch <= size.epochs; ++epoch) {
        ConfusionMatrix matrix(size.classes);
        const double correct = 0.85 - 0.6 * std::exp(-static_cast<double>(epoch) / 20.0);
        predictions.clear();
        for (const std::size_t item : parts.validation) {
            const std::size_t label = set.items[item].label;
            const std::size_t predicted =
                random.uniform() < correct ? label : random.below(static_cast<std::uint32_t>(size.classes));
            matrix.add(label, predicted);
            predictions.push_back(
                {set.items[item].id, label, predicted,
                 std::vector<float>(size.classes, 1.0F / static_cast<float>(size.classes))});
        }
        ledger.record_epoch(run,
                            {{.epoch = epoch,
                              .step = 60 * epoch,
                              .training_loss = 0.1 + 3.5 * std::exp(-static_cast<double>(epoch) / 15.0),
                              .training_scores = {correct, correct, correct},
                              .validation_loss = 0.6 + 3.0 * std::exp(-static_cast<double>(epoch) / 15.0),
                              .learning_rate = 0.01,
                              .seconds = 1.0},
                             matrix},
                            epoch == size.epochs, {}, {}, classes_of_items(predictions));
    }
    ledger.finish_run(run, predictions);
    return run;
}

// Each copy is better or worse by candidate and seed, and predicts a fraction of the items otherwise.
inline void make_large_ledger(const std::filesystem::path& directory, const LargeLedger& size) {
    RunId first_run;
    {
        LedgerWriter ledger = LedgerWriter::open(directory);
        first_run = record_first_run(ledger, size);
    }
    const std::int64_t first = first_run.number;
    SQLite::Database database((directory / "ledger.db").string(), SQLite::OPEN_READWRITE);
    database.exec("PRAGMA synchronous = OFF");
    SQLite::Transaction transaction(database);
    const char* const regimes[] = {"scratch", "frozen", "partial"};
    for (std::int64_t c = 0; c < size.candidates; ++c)
        for (std::int64_t seed = 1; seed <= size.seeds; ++seed) {
            if (c == 0 && seed == 1) continue;
            RandomStream random({.seed = static_cast<std::uint64_t>(seed),
                                 .purpose = Purpose::sample,
                                 .epoch = static_cast<std::uint32_t>(c)});
            const double better = 0.1 * std::sin(static_cast<double>(c)) + 0.02 * random.normal();
            const double slower = 1.0 + 0.5 * std::cos(static_cast<double>(c));
            const auto run = [&](const std::string& sql) { database.exec(sql); };
            run(fmt::format(
                "INSERT INTO runs (study, split, candidate, regime, seed, settings, identity, state, "
                "planned_epochs, "
                "best_epoch, parameters, trainable_parameters, multiplications, jevrin_version, added, "
                "origin) "
                "SELECT study, split, 'c{:03}', '{}', {}, replace(settings, '0.01', '{:.4f}'), identity, "
                "state, "
                "planned_epochs, best_epoch, parameters, {}, {}, jevrin_version, added, 'c{:03}' FROM runs "
                "WHERE id = {}",
                c, regimes[c % 3], seed, 0.001 * static_cast<double>(c + 1), 1000 * (c + 1), 5000 * (c + 7),
                c, first));
            const std::int64_t id = database.getLastInsertRowid();
            run(fmt::format(
                "INSERT INTO epochs (run, epoch, training_loss, training_accuracy, validation_loss, "
                "accuracy, "
                "balanced_accuracy, macro_f1, learning_rate, seconds, step, objective, "
                "training_balanced_accuracy, "
                "training_macro_f1) SELECT {0}, epoch, training_loss * {1} + 0.01 * (abs(random()) % 10), "
                "min(1, training_accuracy + {2}), validation_loss * {1} + 0.02 * (abs(random()) % 10), "
                "min(1, accuracy + {2}), min(1, balanced_accuracy + {2} + 0.002 * (abs(random()) % 10)), "
                "min(1, macro_f1 + {2}), learning_rate, seconds * {1}, step, objective, "
                "min(1, training_balanced_accuracy + {2}), training_macro_f1 FROM epochs WHERE run = {3}",
                id, slower, better, first));
            run(fmt::format(
                "INSERT INTO confusion SELECT {}, epoch, true_class, predicted, count FROM confusion "
                "WHERE run = {}",
                id, first));
            run(
                fmt::format("INSERT INTO predictions SELECT {}, part, item, CASE WHEN abs(random()) % 100 < "
                            "{} THEN (SELECT class "
                            "FROM items WHERE items.id = predictions.item) WHEN abs(random()) % 10 < 2 THEN "
                            "abs(random()) % {} ELSE predicted "
                            "END, probability, probabilities FROM predictions WHERE run = {}",
                            id, static_cast<int>(30 + 100 * better), size.classes, first));
            run(fmt::format(
                "INSERT INTO epoch_predictions (run, epoch, predicted) SELECT {}, epoch, predicted FROM "
                "epoch_predictions WHERE run = {}",
                id, first));
            put_cross_fitted(database, id);
        }
    database.exec("UPDATE studies SET runs = (SELECT COUNT(*) FROM runs); DELETE FROM part_checksums");
    add_checksum_functions(database);
    seal_everything(database);
    transaction.commit();
}

}  // namespace jevrin::bench
