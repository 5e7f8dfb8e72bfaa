#include "jevrin/base/row_store.hpp"

#include "jevrin/base/files.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cassert>
#include <cerrno>
#include <vector>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

bool write_all(int file, const void* bytes, std::size_t size, std::int64_t at) {
    const auto* from = static_cast<const char*>(bytes);
    while (size > 0) {
        const ssize_t put = ::pwrite(file, from, size, at);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) return false;
        from += put;
        at += put;
        size -= static_cast<std::size_t>(put);
    }
    return true;
}

bool read_all(int file, std::span<std::byte> bytes, std::int64_t at) {
    while (!bytes.empty()) {
        const ssize_t got = ::pread(file, bytes.data(), bytes.size(), at);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) return false;
        at += got;
        bytes = bytes.subspan(static_cast<std::size_t>(got));
    }
    return true;
}

std::int64_t size_of(int file) {
    struct stat status {};
    return ::fstat(file, &status) == 0 ? status.st_size : 0;
}

fs::path file_named(const RowStoreSettings& settings, const char* ending) {
    return *settings.directory /
           fmt::format("{}-{}.{}", settings.kind, content_hash(settings.identity).substr(0, 16), ending);
}

}  // namespace

fs::path RowStore::rows_file(const RowStoreSettings& settings) {
    return file_named(settings, "rows");
}

fs::path RowStore::index_file(const RowStoreSettings& settings) {
    return file_named(settings, "index");
}

RowStore::RowStore(RowStoreSettings settings) : settings_(std::move(settings)) {
    if (settings_.directory)
        open_files();
    else
        open_anonymous();
    most_ = stored_ + settings_.capacity;
}

RowStore::~RowStore() {
    if (rows_ >= 0) ::close(rows_);
    if (index_ >= 0) ::close(index_);
}

std::string RowStore::heading() const {
    std::string text =
        fmt::format("jevrin {} 2 {} {}\n", settings_.kind, settings_.row_bytes, settings_.identity);
    text.resize((text.size() + 63) / 64 * 64, '\n');
    return text;
}

void RowStore::open_files() {
    std::error_code ignored;
    fs::create_directories(*settings_.directory, ignored);
    const fs::path index = index_file(settings_);
    const fs::path rows = rows_file(settings_);
    const auto open = [](const fs::path& file, int flags) {
        return ::open(file.c_str(), flags | O_CLOEXEC, 0644);
    };
    index_ = open(index, O_RDWR | O_CREAT);
    writable_ = index_ >= 0 && ::flock(index_, LOCK_EX | LOCK_NB) == 0;
    if (index_ < 0) index_ = open(index, O_RDONLY);
    if (index_ < 0) return;
    const std::string wanted = heading();
    std::string found(wanted.size(), '\0');
    const bool known = ::pread(index_, found.data(), found.size(), 0) == static_cast<ssize_t>(found.size()) &&
                       found == wanted;
    if (!known) {
        if (!writable_) return;
        // Others may still read the old rows: they keep the file that loses its name here.
        fs::remove(rows, ignored);
        if (::ftruncate(index_, 0) != 0 || !write_all(index_, wanted.data(), wanted.size(), 0)) {
            writable_ = false;
            return;
        }
    }
    rows_ = open(rows, writable_ ? O_RDWR | O_CREAT : O_RDONLY);
    if (rows_ < 0) {
        writable_ = false;
        return;
    }
    read_index();
}

void RowStore::open_anonymous() {
    std::error_code error;
    const fs::path directory = fs::temp_directory_path(error);
    if (!error) rows_ = ::open(directory.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    writable_ = rows_ >= 0;
}

void RowStore::read_index() {
    const auto start = static_cast<std::int64_t>(heading().size());
    const auto entry_size = static_cast<std::int64_t>(sizeof(Entry));
    const std::int64_t count =
        std::min((size_of(index_) - start) / entry_size, size_of(rows_) / settings_.row_bytes);
    std::vector<Entry> entries(static_cast<std::size_t>(std::max<std::int64_t>(0, count)));
    const auto bytes = static_cast<ssize_t>(entries.size() * sizeof(Entry));
    if (::pread(index_, entries.data(), static_cast<std::size_t>(bytes), start) != bytes) entries.clear();
    for (const Entry& entry : entries) records_[entry.content] = {stored_++, entry.checksum};
}

std::int64_t RowStore::size() const {
    const std::lock_guard lock(mutex_);
    return static_cast<std::int64_t>(records_.size()) + (overflow_ ? overflow_->size() : 0);
}

bool RowStore::accepts() const {
    const std::lock_guard lock(mutex_);
    return writable_;
}

bool RowStore::read(const ContentHash& content, std::span<std::byte> row) const {
    assert(static_cast<std::int64_t>(row.size()) == settings_.row_bytes);
    Record record;
    {
        const std::lock_guard lock(mutex_);
        const auto found = records_.find(content);
        if (found == records_.end()) return overflow_ && overflow_->read(content, row);
        record = found->second;
    }
    return read_all(rows_, row, record.place * settings_.row_bytes) && content_number(row) == record.checksum;
}

bool RowStore::append(const Entry& entry, std::span<const std::byte> row) {
    if (stored_ == most_) return false;
    const auto start = static_cast<std::int64_t>(heading().size());
    return write_all(rows_, row.data(), row.size(), stored_ * settings_.row_bytes) &&
           (index_ < 0 || write_all(index_, &entry, sizeof(entry),
                                    start + stored_ * static_cast<std::int64_t>(sizeof(entry))));
}

void RowStore::put(const ContentHash& content, std::span<const std::byte> row) {
    assert(static_cast<std::int64_t>(row.size()) == settings_.row_bytes);
    const Entry entry{content, content_number(row)};
    const std::lock_guard lock(mutex_);
    if (writable_) writable_ = append(entry, row);
    if (writable_) {
        records_[content] = {stored_++, entry.checksum};
        return;
    }
    if (!settings_.directory) return;
    if (!overflow_) {
        RowStoreSettings temporary = settings_;
        temporary.directory.reset();
        overflow_ = std::make_unique<RowStore>(std::move(temporary));
    }
    records_.erase(content);  // a damaged one would hide it
    overflow_->put(content, row);
}

}  // namespace jevrin::inline v1
