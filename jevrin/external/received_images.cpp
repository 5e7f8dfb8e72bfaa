#include "jevrin/external/received_images.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/run_intake.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/ledger/database.hpp"
#include "jevrin/ledger/statements.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

constexpr int version_of_the_form = 1;

const char* const tables = R"sql(
CREATE TABLE IF NOT EXISTS images (
    number INTEGER PRIMARY KEY,
    content TEXT NOT NULL,
    name TEXT NOT NULL,
    label TEXT NOT NULL,
    note TEXT NOT NULL,
    model TEXT NOT NULL,
    version INTEGER NOT NULL,
    predicted TEXT NOT NULL,
    probability REAL NOT NULL,
    sender TEXT NOT NULL,
    received TEXT NOT NULL,
    review TEXT NOT NULL,
    written TEXT NOT NULL,
    bytes BLOB NOT NULL,
    UNIQUE (content, sender));
)sql";

const char* const columns =
    "number, content, name, label, note, model, version, predicted, probability, sender, received, review, "
    "written";

// Of an image that the sender has sent before, what is said of it changes.
const char* const put_image = R"sql(
INSERT INTO images VALUES (NULL, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting', '', ?)
ON CONFLICT (content, sender) DO UPDATE SET
    name = excluded.name, label = excluded.label, note = excluded.note, model = excluded.model,
    version = excluded.version, predicted = excluded.predicted, probability = excluded.probability,
    received = excluded.received;
)sql";

ReceivedImage image_in(SQLite::Statement& query) {
    return {.number = query.getColumn(0).getInt64(),
            .content = query.getColumn(1),
            .name = query.getColumn(2),
            .label = query.getColumn(3),
            .note = query.getColumn(4),
            .model = query.getColumn(5),
            .version = query.getColumn(6).getInt64(),
            .predicted = query.getColumn(7),
            .probability = query.getColumn(8).getDouble(),
            .sender = query.getColumn(9),
            .received = query.getColumn(10),
            .review = value_named<Review>(query.getColumn(11).getString()),
            .written = query.getColumn(12)};
}

// What image files of this format are called.
const char* extension_of(ImageFormat format) {
    switch (format) {
        case ImageFormat::png:
            return "png";
        case ImageFormat::jpeg:
            return "jpg";
        case ImageFormat::webp:
            return "webp";
        case ImageFormat::tiff:
            return "tif";
        case ImageFormat::bmp:
            return "bmp";
        case ImageFormat::gif:
            return "gif";
        case ImageFormat::avif:
            return "avif";
        case ImageFormat::values:
        case ImageFormat::unknown:
            break;
    }
    throw InputError("this is no image file");
}

std::filesystem::path folder_of(const std::filesystem::path& root, const std::string& label) {
    if (label.front() == '.' || label.find_first_of(std::string_view("/\\\0", 3)) != std::string::npos)
        throw InputError(fmt::format("'{}' cannot be the name of a folder", printable(label)));
    return root / label;
}

}  // namespace

const EnumNames<Review>& names_of(Review) {
    static const EnumNames<Review> names(
        "the review",
        {{Review::waiting, "waiting"}, {Review::accepted, "accepted"}, {Review::rejected, "rejected"}});
    return names;
}

struct ReceivedImages::State {
    std::filesystem::path file;
    std::unique_ptr<SQLite::Database> database;

    template <typename Work>
    auto with_errors(Work work) -> decltype(work()) {
        return with_database_errors(file, work);
    }

    std::optional<ReceivedImage> find(const std::string& content, const std::string& sender) {
        SQLite::Statement query(
            *database, fmt::format("SELECT {} FROM images WHERE content = ? AND sender = ?", columns));
        query.bind(1, content);
        query.bind(2, sender);
        if (!query.executeStep()) return std::nullopt;
        return image_in(query);
    }

    void put(const ReceivedImage& image, std::span<const std::byte> bytes) {
        SQLite::Statement insert(*database, put_image);
        insert.bind(1, image.content);
        insert.bind(2, image.name);
        insert.bind(3, image.label);
        insert.bind(4, image.note);
        insert.bind(5, image.model);
        insert.bind(6, image.version);
        insert.bind(7, image.predicted);
        insert.bind(8, image.probability);
        insert.bind(9, image.sender);
        insert.bind(10, now());
        insert.bind(11, bytes.data(), static_cast<int>(bytes.size()));
        insert.exec();
    }

    void set_written(std::int64_t number, const std::filesystem::path& file_written) {
        SQLite::Statement update(*database, "UPDATE images SET written = ? WHERE number = ?");
        update.bind(1, file_written.string());
        update.bind(2, number);
        update.exec();
    }
};

ReceivedImages::ReceivedImages(const std::filesystem::path& directory) : state_(std::make_unique<State>()) {
    make_directory(directory);
    state_->file = directory / "received.db";
    state_->database = open_beside_ledger(state_->file, version_of_the_form, tables);
}
ReceivedImages::~ReceivedImages() = default;
ReceivedImages::ReceivedImages(ReceivedImages&&) noexcept = default;
ReceivedImages& ReceivedImages::operator=(ReceivedImages&&) noexcept = default;

bool ReceivedImages::exists(const std::filesystem::path& directory) {
    return std::filesystem::exists(directory / "received.db");
}

ReceivedImages::Added ReceivedImages::add(const ReceivedImage& image, std::span<const std::byte> bytes) {
    ReceivedImage added = image;
    added.content = content_hash(bytes);
    extension_of(image_format(bytes));
    if (bytes.size() > largest_image)
        throw InputError(
            fmt::format("the image has {} bytes; at most {} are kept", bytes.size(), largest_image));
    return state_->with_errors([&]() -> Added {
        SQLite::Database& database = *state_->database;
        SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
        if (const std::optional<ReceivedImage> known = state_->find(added.content, added.sender)) {
            if (known->label == added.label && known->note == added.note) return {known->number, false};
            if (known->review != Review::waiting)
                throw ConflictError("this image was reviewed; what was said of it stays");
            state_->put(added, bytes);
            transaction.commit();
            return {known->number, true};
        }
        if (database.execAndGet("SELECT COUNT(*) FROM images WHERE review = 'waiting'").getInt64() >=
            most_waiting)
            throw InputError("too many images wait for a review");
        state_->put(added, bytes);
        const std::int64_t number = database.getLastInsertRowid();
        transaction.commit();
        return {number, true};
    });
}

std::vector<ReceivedImage> ReceivedImages::list() const {
    return state_->with_errors([&] {
        SQLite::Statement query(*state_->database,
                                fmt::format("SELECT {} FROM images ORDER BY number", columns));
        std::vector<ReceivedImage> images;
        while (query.executeStep()) images.push_back(image_in(query));
        return images;
    });
}

std::vector<std::byte> ReceivedImages::bytes(std::int64_t number) const {
    return state_->with_errors([&] {
        SQLite::Statement query(*state_->database, "SELECT bytes FROM images WHERE number = ?");
        query.bind(1, number);
        if (!query.executeStep()) throw InputError(fmt::format("there is no received image {}", number));
        const SQLite::Column column = query.getColumn(0);
        const auto* begin = static_cast<const std::byte*>(column.getBlob());
        return std::vector<std::byte>(begin, begin + column.getBytes());
    });
}

void ReceivedImages::review(const std::vector<std::int64_t>& numbers, Review review,
                            const std::optional<std::string>& label) {
    state_->with_errors([&] {
        SQLite::Database& database = *state_->database;
        SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
        for (const std::int64_t number : numbers) {
            SQLite::Statement query(database, "SELECT written FROM images WHERE number = ?");
            query.bind(1, number);
            if (!query.executeStep()) throw InputError(fmt::format("there is no received image {}", number));
            if (const std::string written = query.getColumn(0); !written.empty())
                throw InputError(fmt::format("received image {} is in the image set already: {}", number,
                                             printable(written)));
            SQLite::Statement update(
                database, "UPDATE images SET review = ?, label = IFNULL(?, label) WHERE number = ?");
            update.bind(1, name_of(review));
            if (label) update.bind(2, *label);
            update.bind(3, number);
            update.exec();
        }
        transaction.commit();
    });
}

ReceivedImages::Written ReceivedImages::write_into(const std::filesystem::path& root,
                                                   const std::filesystem::path& unlabelled) {
    Written result;
    for (const ReceivedImage& image : list()) {
        if (image.review != Review::accepted || !image.written.empty()) continue;
        const bool is_labelled = !image.label.empty();
        if (!is_labelled && unlabelled.empty()) {
            ++result.left;
            continue;
        }
        const std::filesystem::path folder = is_labelled ? folder_of(root, image.label) : unlabelled;
        const std::vector<std::byte> content = bytes(image.number);
        const std::filesystem::path file =
            folder / fmt::format("received-{}.{}", image.content, extension_of(image_format(content)));
        make_directory(folder);
        write_file(file, content);
        state_->with_errors([&] { state_->set_written(image.number, file); });
        ++(is_labelled ? result.labelled : result.unlabelled);
    }
    return result;
}

}  // namespace jevrin::inline v1
