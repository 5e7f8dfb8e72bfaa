#include "jevrin/images/picture_store.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cassert>
#include <cstring>
#include <string>
#include <vector>

namespace jevrin {
namespace {

namespace fs = std::filesystem;

std::string heading_of(const Fitting& fitting) {
    std::string text = fmt::format("jevrin pictures 1 {}\n", fitting.key());
    text.resize((text.size() + 63) / 64 * 64, '\n');
    return text;
}

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

std::int64_t size_of(int file) {
    struct stat status {};
    return ::fstat(file, &status) == 0 ? status.st_size : 0;
}

fs::path file_named(const fs::path& directory, const Fitting& fitting, const char* ending) {
    return directory / fmt::format("pictures-{}.{}", content_hash(fitting.key()).substr(0, 16), ending);
}

}  // namespace

fs::path PictureStore::pictures_file(const fs::path& directory, const Fitting& fitting) {
    return file_named(directory, fitting, "pixels");
}

fs::path PictureStore::index_file(const fs::path& directory, const Fitting& fitting) {
    return file_named(directory, fitting, "index");
}

PictureStore::PictureStore(const std::optional<fs::path>& directory, const Fitting& fitting,
                           std::int64_t capacity)
    : fitting_(fitting), capacity_(capacity) {
    if (directory)
        open_files(*directory);
    else
        open_anonymous();
    map_pictures();
}

PictureStore::~PictureStore() {
    if (mapped_ != nullptr) ::munmap(const_cast<std::uint8_t*>(mapped_), mapped_bytes_);
    if (pictures_ >= 0) ::close(pictures_);
    if (index_ >= 0) ::close(index_);
}

void PictureStore::open_files(const fs::path& directory) {
    std::error_code ignored;
    fs::create_directories(directory, ignored);
    const fs::path index = index_file(directory, fitting_);
    const fs::path pictures = pictures_file(directory, fitting_);
    const auto open = [](const fs::path& file, int flags) {
        return ::open(file.c_str(), flags | O_CLOEXEC, 0644);
    };
    index_ = open(index, O_RDWR | O_CREAT);
    writable_ = index_ >= 0 && ::flock(index_, LOCK_EX | LOCK_NB) == 0;
    if (index_ < 0) index_ = open(index, O_RDONLY);
    if (index_ < 0) return;
    const std::string heading = heading_of(fitting_);
    std::string found(heading.size(), '\0');
    const bool known = ::pread(index_, found.data(), found.size(), 0) == static_cast<ssize_t>(found.size()) &&
                       found == heading;
    if (!known) {
        if (!writable_) return;
        // Others may still have the old pictures mapped: they keep the file that loses its name here.
        fs::remove(pictures, ignored);
        if (::ftruncate(index_, 0) != 0 || !write_all(index_, heading.data(), heading.size(), 0)) {
            writable_ = false;
            return;
        }
    }
    pictures_ = open(pictures, writable_ ? O_RDWR | O_CREAT : O_RDONLY);
    if (pictures_ < 0) {
        writable_ = false;
        return;
    }
    read_index();
}

void PictureStore::open_anonymous() {
    std::error_code error;
    const fs::path directory = fs::temp_directory_path(error);
    if (!error) pictures_ = ::open(directory.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    writable_ = pictures_ >= 0;
}

void PictureStore::read_index() {
    const auto start = static_cast<std::int64_t>(heading_of(fitting_).size());
    const auto entry_size = static_cast<std::int64_t>(sizeof(Entry));
    const std::int64_t count =
        std::min((size_of(index_) - start) / entry_size, size_of(pictures_) / fitting_.values());
    std::vector<Entry> entries(static_cast<std::size_t>(std::max<std::int64_t>(0, count)));
    const auto bytes = static_cast<ssize_t>(entries.size() * sizeof(Entry));
    if (::pread(index_, entries.data(), static_cast<std::size_t>(bytes), start) != bytes) entries.clear();
    for (const Entry& entry : entries) records_[entry.content] = {stored_++, entry.checksum};
}

void PictureStore::map_pictures() {
    if (pictures_ < 0) return;
    // More than the file holds yet: what put() adds appears in it.
    mapped_bytes_ = static_cast<std::size_t>((stored_ + capacity_) * fitting_.values());
    if (mapped_bytes_ == 0) return;
    void* address = ::mmap(nullptr, mapped_bytes_, PROT_READ, MAP_SHARED, pictures_, 0);
    if (address == MAP_FAILED) {
        records_.clear();
        writable_ = false;
        return;
    }
    mapped_ = static_cast<const std::uint8_t*>(address);
}

std::int64_t PictureStore::size() const {
    const std::lock_guard lock(mutex_);
    return static_cast<std::int64_t>(records_.size());
}

bool PictureStore::accepts() const {
    const std::lock_guard lock(mutex_);
    return writable_;
}

const std::uint8_t* PictureStore::find(const ContentHash& content) const {
    Record record;
    {
        const std::lock_guard lock(mutex_);
        const auto found = records_.find(content);
        if (found == records_.end()) return nullptr;
        record = found->second;
    }
    const std::uint8_t* pixels = mapped_ + record.place * fitting_.values();
    const auto bytes = std::as_bytes(std::span(pixels, static_cast<std::size_t>(fitting_.values())));
    return content_number(bytes) == record.checksum ? pixels : nullptr;
}

void PictureStore::put(const ContentHash& content, std::span<const std::uint8_t> pixels) {
    assert(static_cast<std::int64_t>(pixels.size()) == fitting_.values());
    const Entry entry{content, content_number(std::as_bytes(pixels))};
    const std::lock_guard lock(mutex_);
    const bool has_room = static_cast<std::size_t>((stored_ + 1) * fitting_.values()) <= mapped_bytes_;
    if (!writable_ || !has_room) return;
    const auto start = static_cast<std::int64_t>(heading_of(fitting_).size());
    const bool written =
        write_all(pictures_, pixels.data(), pixels.size(), stored_ * fitting_.values()) &&
        (index_ < 0 || write_all(index_, &entry, sizeof(entry),
                                 start + stored_ * static_cast<std::int64_t>(sizeof(entry))));
    if (!written) {
        writable_ = false;
        return;
    }
    records_[content] = {stored_++, entry.checksum};
}

}  // namespace jevrin
