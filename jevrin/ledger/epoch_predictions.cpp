// What runs predicted on the validation part at every epoch, compactly: one blob for an epoch, the classes of
// the items in the order of their numbers as bytes (two, low byte first, for more than 256 classes),
// deflated.
#include "jevrin/ledger/epoch_predictions.hpp"

#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"
#include "jevrin/metrics/cross_fitting.hpp"

#include <zlib.h>

#include <algorithm>
#include <string_view>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

std::size_t bytes_of_class(std::size_t classes) {
    return classes > 256 ? 2 : 1;
}

// The number of items, then their classes, deflated.
std::string packed(const std::vector<std::size_t>& predicted, std::size_t classes) {
    std::string bytes;
    for (const std::size_t one : predicted)
        for (std::size_t byte = 0; byte < bytes_of_class(classes); ++byte)
            bytes += static_cast<char>(one >> (8 * byte) & 0xFFU);
    uLongf size = compressBound(bytes.size());
    std::string deflated(sizeof(std::uint32_t) + size, '\0');
    const auto items = static_cast<std::uint32_t>(predicted.size());
    for (std::size_t byte = 0; byte < sizeof(items); ++byte)
        deflated[byte] = static_cast<char>(items >> (8 * byte) & 0xFFU);
    if (compress2(reinterpret_cast<Bytef*>(deflated.data() + sizeof(items)), &size,
                  reinterpret_cast<const Bytef*>(bytes.data()), bytes.size(), Z_BEST_COMPRESSION) != Z_OK)
        throw WorkError("the predictions of an epoch could not be compressed");
    deflated.resize(sizeof(items) + size);
    return deflated;
}

// Empty when it does not hold a class for each item.
std::vector<std::size_t> unpacked(const SQLite::Column& blob, std::size_t classes) {
    const std::string_view deflated(static_cast<const char*>(blob.getBlob()),
                                    static_cast<std::size_t>(blob.getBytes()));
    std::uint32_t items = 0;
    constexpr std::uint32_t most_items = 1U << 28;
    if (deflated.size() < sizeof(items)) return {};
    for (std::size_t byte = 0; byte < sizeof(items); ++byte)
        items |= static_cast<std::uint32_t>(static_cast<unsigned char>(deflated[byte])) << (8 * byte);
    if (items > most_items) return {};
    const std::size_t width = bytes_of_class(classes);
    std::string bytes(items * width, '\0');
    uLongf size = bytes.size();
    if (uncompress(reinterpret_cast<Bytef*>(bytes.data()), &size,
                   reinterpret_cast<const Bytef*>(deflated.data() + sizeof(items)),
                   deflated.size() - sizeof(items)) != Z_OK ||
        size != bytes.size())
        return {};
    std::vector<std::size_t> predicted;
    predicted.reserve(items);
    for (std::size_t i = 0; i < items; ++i) {
        std::size_t one = 0;
        for (std::size_t byte = 0; byte < width; ++byte)
            one |= static_cast<std::size_t>(static_cast<unsigned char>(bytes[i * width + byte]))
                   << (8 * byte);
        if (one >= classes) return {};
        predicted.push_back(one);
    }
    return predicted;
}

}  // namespace

const std::vector<std::string>& validation_ids(LedgerConnection& connection, std::int64_t split) {
    if (const auto known = connection.validation.find(split); known != connection.validation.end())
        return known->second;
    SQLite::Statement query(*connection.database, R"sql(
        SELECT items.item FROM split_items JOIN items ON items.id = split_items.item
        WHERE split = ? AND part = 'validation' ORDER BY items.id)sql");
    query.bind(1, split);
    std::vector<std::string> ids;
    while (query.executeStep()) ids.push_back(query.getColumn(0));
    return connection.validation[split] = std::move(ids);
}

void put_epoch_predictions(LedgerConnection& connection, RunId run, std::int64_t epoch, std::size_t classes,
                           const std::vector<ItemPrediction>& predictions) {
    const std::vector<std::string>& ids = validation_ids(connection, split_of(connection, run));
    std::vector<std::size_t> predicted;
    if (std::equal(ids.begin(), ids.end(), predictions.begin(), predictions.end(),
                   [](const std::string& id, const ItemPrediction& one) { return id == one.item; })) {
        for (const ItemPrediction& one : predictions) predicted.push_back(one.predicted);
    } else {
        std::unordered_map<std::string, std::size_t> by_item;
        for (const ItemPrediction& one : predictions) by_item[one.item] = one.predicted;
        for (const std::string& id : ids)
            if (const auto found = by_item.find(id); found != by_item.end())
                predicted.push_back(found->second);
    }
    if (predicted.size() != predictions.size())
        throw WorkError("a prediction refers to an item that its run does not have; the ledger is damaged");
    const std::string blob = packed(predicted, classes);
    LentStatement insert = connection.prepared(
        "INSERT OR REPLACE INTO epoch_predictions (run, epoch, predicted) VALUES (?, ?, ?)");
    insert->bind(1, run.number);
    insert->bind(2, epoch);
    insert->bind(3, blob.data(), static_cast<int>(blob.size()));
    insert->exec();
}

namespace {

std::size_t classes_of(LedgerConnection& connection, RunId run) {
    return items_of_split(connection, split_of(connection, run)).classes;
}

}  // namespace

std::vector<std::vector<std::size_t>> Ledger::epoch_predictions(RunId run) const {
    return reading(*connection_, [&] {
        SQLite::Database& database = *connection_->database;
        require_row(*connection_, "runs", run, "run");
        SQLite::Statement query(database,
                                fmt::format("SELECT predicted, {} FROM epoch_predictions WHERE run = ? "
                                            "ORDER BY epoch",
                                            is_sealed("epoch_predictions")));
        query.bind(1, run.number);
        std::vector<std::vector<std::size_t>> epochs;
        const std::size_t classes = classes_of(*connection_, run);
        while (query.executeStep()) {
            if (query.getColumn(1).getInt() != 0) epochs.push_back(unpacked(query.getColumn(0), classes));
            if (query.getColumn(1).getInt() == 0 || epochs.back().empty())
                throw_damaged(connection_->file(), "the predictions of an epoch");
        }
        if (!epochs.empty() &&
            std::ssize(epochs) != select_number(database, "SELECT COUNT(*) FROM epochs WHERE run = ?", run))
            throw_damaged(connection_->file(), "the list of an epoch's predictions");
        return epochs;
    });
}

std::vector<std::size_t> Ledger::cross_fitted(RunId run, Metric metric) const {
    return reading(*connection_, [&] {
        LentStatement query = connection_->prepared(
            fmt::format("SELECT predicted, {} FROM cross_fitted WHERE run = ? AND metric = ?",
                        is_sealed("cross_fitted")));
        query->bind(1, run.number);
        query->bind(2, name_of(metric));
        if (!query->executeStep()) return compute_cross_fitted(run, metric);
        std::vector<std::size_t> predicted;
        if (query->getColumn(1).getInt() != 0)
            predicted = unpacked(query->getColumn(0), classes_of(*connection_, run));
        if (predicted.empty()) throw_damaged(connection_->file(), "the cross-fitted predictions of a run");
        return predicted;
    });
}

std::vector<std::size_t> Ledger::compute_cross_fitted(RunId run, Metric metric) const {
    const auto epochs = epoch_predictions(run);
    if (epochs.empty()) return {};
    std::vector<std::int64_t> units;
    std::vector<std::size_t> labels;
    for (const OutcomeRecord& outcome : outcomes(run, Part::validation)) {
        units.push_back(outcome.unit.number);
        labels.push_back(outcome.label);
    }
    for (const std::vector<std::size_t>& epoch : epochs)
        if (epoch.size() != labels.size()) throw_damaged(connection_->file(), "the predictions of an epoch");
    const std::int64_t seed =
        select_number(*connection_->database, "SELECT seed FROM runs WHERE id = ?", run);
    return jevrin::cross_fitted(epochs, labels, halves_of(units, labels, seed), classes_of(*connection_, run),
                                metric);
}

// By the study's metric, when the run has predictions by epoch: what every comparison will ask for.
void LedgerWriter::put_cross_fitted(RunId run) {
    SQLite::Database& database = *connection_->database;
    if (select_number(database, "SELECT COUNT(*) FROM epoch_predictions WHERE run = ?", run) == 0) return;
    SQLite::Statement query(database,
                            "SELECT metric FROM runs JOIN studies ON studies.id = study WHERE runs.id = ?");
    query.bind(1, run.number);
    query.executeStep();
    const std::string metric = query.getColumn(0);
    const std::string blob =
        packed(ledger_.compute_cross_fitted(run, value_named<Metric>(metric)), classes_of(*connection_, run));
    SQLite::Statement insert(database,
                             "INSERT OR REPLACE INTO cross_fitted (run, metric, predicted) VALUES (?, ?, ?)");
    insert.bind(1, run.number);
    insert.bind(2, metric);
    insert.bind(3, blob.data(), static_cast<int>(blob.size()));
    insert.exec();
}

}  // namespace jevrin::inline v1
