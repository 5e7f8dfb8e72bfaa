// What runs predicted on the validation part at every epoch, compactly: one blob for an epoch, the classes of
// the items in the order of their numbers as bytes (two, low byte first, for more than 256 classes),
// deflated.
#include "jevrin/ledger/epoch_predictions.hpp"

#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"

#include <zlib.h>

#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

std::size_t bytes_of_class(std::size_t classes) {
    return classes > 256 ? 2 : 1;
}

std::string packed(const std::vector<std::size_t>& predicted, std::size_t classes) {
    std::string bytes;
    for (const std::size_t one : predicted)
        for (std::size_t byte = 0; byte < bytes_of_class(classes); ++byte)
            bytes += static_cast<char>(one >> (8 * byte) & 0xFFU);
    uLongf size = compressBound(bytes.size());
    std::string deflated(size, '\0');
    if (compress2(reinterpret_cast<Bytef*>(deflated.data()), &size,
                  reinterpret_cast<const Bytef*>(bytes.data()), bytes.size(), Z_BEST_COMPRESSION) != Z_OK)
        throw WorkError("the predictions of an epoch could not be compressed");
    deflated.resize(size);
    return deflated;
}

// Empty when it does not hold a class for each item.
std::vector<std::size_t> unpacked(const SQLite::Column& blob, std::size_t items, std::size_t classes) {
    const std::size_t width = bytes_of_class(classes);
    std::string bytes(items * width, '\0');
    uLongf size = bytes.size();
    if (uncompress(reinterpret_cast<Bytef*>(bytes.data()), &size, static_cast<const Bytef*>(blob.getBlob()),
                   static_cast<uLong>(blob.getBytes())) != Z_OK ||
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

void put_epoch_predictions(SQLite::Database& database, RunId run, std::int64_t epoch, std::size_t classes,
                           const std::vector<ItemPrediction>& predictions) {
    std::unordered_map<std::string, std::size_t> by_item;
    for (const ItemPrediction& prediction : predictions) by_item[prediction.item] = prediction.predicted;
    SQLite::Statement query(database, R"sql(
        SELECT items.item FROM runs JOIN split_items ON split_items.split = runs.split
        JOIN items ON items.id = split_items.item
        WHERE runs.id = ? AND part = 'validation'
        ORDER BY items.id)sql");
    query.bind(1, run.number);
    std::vector<std::size_t> predicted;
    while (query.executeStep()) {
        const auto found = by_item.find(query.getColumn(0).getString());
        if (found != by_item.end()) predicted.push_back(found->second);
    }
    if (predicted.size() != predictions.size())
        throw WorkError("a prediction refers to an item that its run does not have; the ledger is damaged");
    const std::string blob = packed(predicted, classes);
    SQLite::Statement insert(
        database, "INSERT OR REPLACE INTO epoch_predictions (run, epoch, predicted) VALUES (?, ?, ?)");
    insert.bind(1, run.number);
    insert.bind(2, epoch);
    insert.bind(3, blob.data(), static_cast<int>(blob.size()));
    insert.exec();
}

std::vector<std::vector<std::size_t>> Ledger::epoch_predictions(RunId run, std::size_t items,
                                                                std::size_t classes) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database,
                                fmt::format("SELECT predicted, {} FROM epoch_predictions WHERE run = ? "
                                            "ORDER BY epoch",
                                            is_sealed("epoch_predictions")));
        query.bind(1, run.number);
        std::vector<std::vector<std::size_t>> epochs;
        while (query.executeStep()) {
            if (query.getColumn(1).getInt() != 0)
                epochs.push_back(unpacked(query.getColumn(0), items, classes));
            if (query.getColumn(1).getInt() == 0 || epochs.back().empty())
                throw_damaged(connection_->file(), "the predictions of an epoch");
        }
        if (!epochs.empty() &&
            std::ssize(epochs) !=
                select_number(*connection_->database, "SELECT COUNT(*) FROM epochs WHERE run = ?", run))
            throw_damaged(connection_->file(), "the list of an epoch's predictions");
        return epochs;
    });
}

}  // namespace jevrin::inline v1
