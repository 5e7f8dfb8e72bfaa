#include "jevrin/base/place_lock.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <cerrno>
#include <cstring>

namespace jevrin::inline v1 {
namespace {

// A lock of one byte that belongs to the open file, not to the process.
struct flock one_place(std::int64_t place) {
    struct flock lock {};
    lock.l_type = F_WRLCK;
    lock.l_whence = SEEK_SET;
    lock.l_start = place;
    lock.l_len = 1;
    return lock;
}

}  // namespace

std::optional<PlaceLock> PlaceLock::try_hold(const std::filesystem::path& file, std::int64_t place) {
    for (;;) {
        Descriptor descriptor(::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666));
        if (!descriptor.is_open())
            throw WorkError(fmt::format("{}: cannot write: {}; check who may write there",
                                        printable(file.string()), std::strerror(errno)));
        struct flock wanted = one_place(place);
        if (::fcntl(descriptor.get(), F_OFD_SETLK, &wanted) != 0) {
            if (errno == EAGAIN || errno == EACCES) return std::nullopt;
            throw WorkError(fmt::format(
                "{}: this file system cannot lock files: {}; keep the ledger on a disk of one machine, and "
                "train on several with mpirun, or into a ledger on each that 'jevrin ledger merge' joins",
                printable(file.string()), std::strerror(errno)));
        }
        PlaceLock lock(std::move(descriptor), file, place);
        if (lock.is_in_place()) return lock;  // or else it was replaced in between
    }
}

bool PlaceLock::is_held(const std::filesystem::path& file, std::int64_t place) {
    const Descriptor descriptor(::open(file.c_str(), O_RDONLY | O_CLOEXEC));
    if (!descriptor.is_open()) return false;
    struct flock found = one_place(place);
    return ::fcntl(descriptor.get(), F_OFD_GETLK, &found) == 0 && found.l_type != F_UNLCK;
}

bool PlaceLock::is_in_place() const {
    struct stat ours {};
    struct stat named {};
    return ::fstat(descriptor_.get(), &ours) == 0 && ::stat(file_.c_str(), &named) == 0 &&
           ours.st_dev == named.st_dev && ours.st_ino == named.st_ino;
}

bool PlaceLock::renew() {
    if (is_in_place()) return true;
    std::optional<PlaceLock> again = try_hold(file_, place_);
    if (!again) return false;
    descriptor_ = std::move(again->descriptor_);
    return true;
}

}  // namespace jevrin::inline v1
