#include "jevrin/base/descriptor.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <mutex>
#include <set>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

using Pieces = std::span<const std::span<const std::byte>>;

constexpr std::string_view temporary_prefix = ".jevrin-";
constexpr std::string_view temporary_suffix = ".part";

std::string cure_for(int error) {
    switch (error) {
        case ENOSPC:
        case EDQUOT:
            return "free some space on the disk and start again";
        case EFBIG:
            return "raise the limit on file sizes (ulimit -f) and start again";
        case EACCES:
        case EPERM:
            return "check who may write there";
        case EROFS:
            return "name a place that is not read-only";
        case EPIPE:
            return "the program that reads it ended";
        case EISDIR:
            return "name a file";
        default:
            return "check that the directory exists and can be written";
    }
}

[[noreturn]] void fail_writing(const fs::path& path, int error) {
    throw WorkError(fmt::format("{}: cannot write: {}; {}", printable(path.string()), std::strerror(error),
                                cure_for(error)));
}

// 0, or the error. place: where in the file to begin, or nothing for where it stands.
int write_all(int descriptor, Pieces pieces, std::optional<std::int64_t> place = std::nullopt) {
    for (const std::span<const std::byte> bytes : pieces) {
        std::size_t done = 0;
        while (done < bytes.size()) {
            const std::byte* from = bytes.data() + done;
            const std::size_t left = bytes.size() - done;
            const ssize_t put =
                place ? ::pwrite(descriptor, from, left, *place) : ::write(descriptor, from, left);
            if (put < 0 && errno == EINTR) continue;
            if (put < 0) return errno;
            if (put == 0) return ENOSPC;
            done += static_cast<std::size_t>(put);
            if (place) *place += put;
        }
    }
    return 0;
}

// The file that a path leads to in the end; there need not be one.
fs::path behind_links(fs::path path) {
    constexpr int most_links = 40;
    std::error_code none;
    for (int link = 0; link < most_links && fs::is_symlink(path, none); ++link) {
        const fs::path target = fs::read_symlink(path, none);
        if (none) break;
        path = target.is_absolute() ? target : path.parent_path() / target;
    }
    return path;
}

bool same_file(const struct stat& a, const struct stat& b) {
    return a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

// Standard output or error when the path means one of them; a descriptor that is not closed.
std::optional<int> standard_stream(const fs::path& path) {
    if (path == "-") return STDOUT_FILENO;
    struct stat wanted {};
    if (::stat(path.c_str(), &wanted) != 0) return std::nullopt;
    for (const int descriptor : {STDOUT_FILENO, STDERR_FILENO}) {
        struct stat open {};
        if (::fstat(descriptor, &open) == 0 && same_file(open, wanted)) return descriptor;
    }
    return std::nullopt;
}

fs::path directory_of(const fs::path& path) {
    return path.has_parent_path() ? path.parent_path() : fs::path(".");
}

std::string temporary_name() {
    return fmt::format("{}{}{}", temporary_prefix, random_digits().substr(0, 16), temporary_suffix);
}

// A new file beside others, locked for as long as it is open, so that nobody takes it for a leftover.
Descriptor open_temporary(const fs::path& directory, mode_t mode, fs::path& temporary) {
    for (;;) {
        temporary = directory / temporary_name();
        Descriptor file(
            ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, mode));
        if (!file.is_open()) return file;
        // Who takes it for a leftover holds the lock until it is gone.
        ::flock(file.get(), LOCK_EX);
        struct stat status {};
        // Somebody may have removed it before it was locked.
        if (::fstat(file.get(), &status) == 0 && status.st_nlink > 0) return file;
    }
}

// Where no file beside it can be made, or its owner would change: over its own bytes, once there is room.
void overwrite(const fs::path& path, Pieces pieces) {
    std::int64_t size = 0;
    for (const auto piece : pieces) size += std::ssize(piece);
    Descriptor file(::open(path.c_str(), O_WRONLY | O_CLOEXEC));
    if (!file.is_open()) fail_writing(path, errno);
    int error = size > 0 ? ::posix_fallocate(file.get(), 0, size) : 0;
    if (error == 0 || error == EINVAL || error == EOPNOTSUPP) error = write_all(file.get(), pieces, 0);
    if (error == 0 && (::ftruncate(file.get(), size) != 0 || ::fsync(file.get()) != 0)) error = errno;
    if (error != 0) fail_writing(path, error);
}

void write_straight(const fs::path& path, Pieces pieces) {
    const std::optional<int> standard = standard_stream(path);
    const Descriptor opened(standard ? -1 : ::open(path.c_str(), O_WRONLY | O_CLOEXEC | O_NOCTTY));
    if (!standard && !opened.is_open()) fail_writing(path, errno);
    if (const int error = write_all(standard.value_or(opened.get()), pieces); error != 0)
        fail_writing(path, error);
}

void replace(const fs::path& path, Pieces pieces) {
    struct stat before {};
    const bool exists = ::stat(path.c_str(), &before) == 0;
    const fs::path directory = directory_of(path);
    static std::mutex guard;
    static std::set<fs::path> cleaned;
    if (const std::lock_guard lock(guard); cleaned.insert(directory).second) remove_leftovers(directory);
    fs::path temporary;
    Descriptor file = open_temporary(directory, exists ? 0600 : 0666, temporary);
    if (!file.is_open()) {
        const int error = errno;
        if (exists && (error == EACCES || error == EPERM)) return overwrite(path, pieces);
        fail_writing(path, error);
    }
    const bool same_owner = before.st_uid == ::geteuid() && before.st_gid == ::getegid();
    if (exists && !same_owner && ::fchown(file.get(), before.st_uid, before.st_gid) != 0) {
        ::unlink(temporary.c_str());
        return overwrite(path, pieces);
    }
    int error = exists && ::fchmod(file.get(), before.st_mode & 07777) != 0 ? errno : 0;
    if (error == 0) error = write_all(file.get(), pieces);
    if (error == 0 && ::fsync(file.get()) != 0) error = errno;
    if (error == 0 && ::rename(temporary.c_str(), path.c_str()) != 0) error = errno;
    if (error != 0) {
        ::unlink(temporary.c_str());
        fail_writing(path, error);
    }
    sync_directory(directory);
}

}  // namespace

std::string random_digits() {
    std::uint64_t bits[2];
    if (::getrandom(bits, sizeof(bits), 0) != static_cast<ssize_t>(sizeof(bits)))
        throw WorkError(fmt::format("the system gives no random numbers: {}", std::strerror(errno)));
    return fmt::format("{:016x}{:016x}", bits[0], bits[1]);
}

bool is_stream(const fs::path& path) {
    struct stat status {};
    return standard_stream(path) ||
           (::stat(path.c_str(), &status) == 0 && !S_ISREG(status.st_mode) && !S_ISDIR(status.st_mode));
}

void write_file(const fs::path& path, Pieces pieces) {
    if (is_stream(path)) return write_straight(path, pieces);
    replace(behind_links(path), pieces);
}

void write_file(const fs::path& path, std::span<const std::byte> bytes) {
    write_file(path, std::span(&bytes, 1));
}

void write_file(const fs::path& path, std::string_view text) {
    write_file(path, std::as_bytes(std::span(text.data(), text.size())));
}

void append_to_file(const fs::path& path, std::string_view text) {
    const auto bytes = std::as_bytes(std::span(text.data(), text.size()));
    if (is_stream(path)) return write_straight(path, {&bytes, 1});
    const Descriptor file(::open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0666));
    if (!file.is_open()) fail_writing(path, errno);
    if (const int error = write_all(file.get(), {&bytes, 1}); error != 0) fail_writing(path, error);
}

StagingDirectory::StagingDirectory(const fs::path& parent) : path_(parent / temporary_name()) {
    if (::mkdir(path_.c_str(), 0777) != 0) fail_writing(path_, errno);
    lock_ = Descriptor(::open(path_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (lock_.is_open()) ::flock(lock_.get(), LOCK_EX | LOCK_NB);
}

StagingDirectory::~StagingDirectory() {
    std::error_code none;
    fs::remove_all(path_, none);
}

void copy_synced(const fs::path& from, const fs::path& to) {
    const InputFile source(from);
    Descriptor copy(::open(to.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666));
    if (!copy.is_open()) fail_writing(to, errno);
    std::vector<std::byte> piece(std::size_t{1} << 20);
    int error = 0;
    try {
        for (std::int64_t at = 0; error == 0 && at < source.size(); at += std::ssize(piece)) {
            piece.resize(static_cast<std::size_t>(std::min(std::ssize(piece), source.size() - at)));
            source.read(at, piece);
            const std::span<const std::byte> bytes = piece;
            error = write_all(copy.get(), {&bytes, 1});
        }
        if (error == 0 && ::fsync(copy.get()) != 0) error = errno;
        if (error != 0) fail_writing(to, error);
    } catch (...) {
        ::unlink(to.c_str());
        throw;
    }
}

void remove_leftovers(const fs::path& directory) {
    std::error_code none;
    for (fs::directory_iterator it(directory, none), end; !none && it != end; it.increment(none)) {
        const std::string name = it->path().filename().string();
        if (!name.starts_with(temporary_prefix) || !name.ends_with(temporary_suffix)) continue;
        const Descriptor file(
            ::open(it->path().c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_NOCTTY | O_CLOEXEC));
        struct stat status {};
        if (!file.is_open() || ::fstat(file.get(), &status) != 0 || status.st_uid != ::geteuid() ||
            ::flock(file.get(), LOCK_EX | LOCK_NB) != 0)
            continue;
        std::error_code ignored;
        if (S_ISREG(status.st_mode)) ::unlink(it->path().c_str());
        if (S_ISDIR(status.st_mode)) fs::remove_all(it->path(), ignored);
    }
}

void sync_directory(const fs::path& directory) {
    const Descriptor file(::open(directory.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (file.is_open()) ::fsync(file.get());
}

void make_directory(const fs::path& path) {
    std::error_code error;
    fs::create_directories(path, error);
    if (error)
        throw WorkError(fmt::format("{}: cannot make this directory: {}; {}", printable(path.string()),
                                    error.message(), cure_for(error.value())));
}

}  // namespace jevrin::inline v1
