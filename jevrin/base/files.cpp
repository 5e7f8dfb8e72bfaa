#include "jevrin/base/files.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/place_lock.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace jevrin::inline v1 {
namespace {

class Descriptor {
  public:
    explicit Descriptor(int value) : value_(value) {}
    ~Descriptor() {
        if (value_ >= 0) ::close(value_);
    }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    int get() const { return value_; }

  private:
    int value_;
};

std::string cure_for(int error) {
    if (error == ENOSPC || error == EDQUOT) return "free some space on the disk and start again";
    if (error == EFBIG) return "raise the limit on file sizes (ulimit -f) and start again";
    if (error == EACCES || error == EPERM || error == EROFS) return "check who may write there";
    return "check that the directory exists and can be written";
}

[[noreturn]] void fail_writing(const std::filesystem::path& path, int error) {
    throw WorkError(fmt::format("{}: cannot write: {}; {}", printable(path.string()), std::strerror(error),
                                cure_for(error)));
}

}  // namespace

InputFile::InputFile(const std::filesystem::path& path)
    : path_(path), descriptor_(::open(path.c_str(), O_RDONLY | O_CLOEXEC)) {
    struct stat status {};
    if (descriptor_ < 0 || ::fstat(descriptor_, &status) != 0) {
        const int error = errno;
        if (descriptor_ >= 0) ::close(descriptor_);
        fail(fmt::format("cannot read: {}; check the path and who may read it", std::strerror(error)));
    }
    size_ = status.st_size;
    if (S_ISREG(status.st_mode)) return;
    ::close(descriptor_);
    fail("is not a regular file; name a file");
}

InputFile::~InputFile() {
    ::close(descriptor_);
}

void InputFile::fail(const std::string& what) const {
    throw InputError::in_file(printable(path_.string()), what);
}

void InputFile::read(std::int64_t offset, std::span<std::byte> bytes) const {
    std::size_t done = 0;
    while (done < bytes.size()) {
        const ssize_t got = ::pread(descriptor_, bytes.data() + done, bytes.size() - done,
                                    offset + static_cast<std::int64_t>(done));
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) fail(fmt::format("cannot read: {}", std::strerror(errno)));
        if (got == 0) fail("the file ends too early; it is truncated, or changed while it was read");
        done += static_cast<std::size_t>(got);
    }
}

std::vector<std::byte> read_file(const std::filesystem::path& path) {
    const InputFile file(path);
    std::vector<std::byte> bytes(static_cast<std::size_t>(file.size()));
    file.read(0, bytes);
    return bytes;
}

std::string read_text(const std::filesystem::path& path) {
    const std::vector<std::byte> bytes = read_file(path);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

void write_file(const std::filesystem::path& path, std::span<const std::byte> bytes) {
    write_file(path, std::span(&bytes, 1));
}

void write_file(const std::filesystem::path& path, std::span<const std::span<const std::byte>> pieces) {
    const std::filesystem::path temporary = path.string() + fmt::format(".{}.part", ::getpid());
    int error = 0;
    {
        const Descriptor file(::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644));
        if (file.get() < 0) fail_writing(path, errno);
        for (const std::span<const std::byte> bytes : pieces) {
            std::size_t done = 0;
            while (error == 0 && done < bytes.size()) {
                const ssize_t put = ::write(file.get(), bytes.data() + done, bytes.size() - done);
                if (put > 0) done += static_cast<std::size_t>(put);
                if (put < 0 && errno != EINTR) error = errno;
                if (put == 0) error = ENOSPC;
            }
        }
        if (error == 0 && ::fsync(file.get()) != 0) error = errno;
    }
    if (error == 0 && ::rename(temporary.c_str(), path.c_str()) != 0) error = errno;
    if (error != 0) {
        ::unlink(temporary.c_str());
        fail_writing(path, error);
    }
    // The rename itself must survive a loss of power.
    const std::filesystem::path parent = path.has_parent_path() ? path.parent_path() : ".";
    const Descriptor directory(::open(parent.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (directory.get() >= 0) ::fsync(directory.get());
}

void write_file(const std::filesystem::path& path, std::string_view text) {
    write_file(path, std::as_bytes(std::span(text.data(), text.size())));
}

void make_directory(const std::filesystem::path& path) {
    std::error_code error;
    std::filesystem::create_directories(path, error);
    if (error)
        throw WorkError(fmt::format("{}: cannot make this directory: {}; {}", printable(path.string()),
                                    error.message(), cure_for(error.value())));
}

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
    const int descriptor = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    if (descriptor < 0) fail_writing(file, errno);
    PlaceLock lock(descriptor);
    struct flock wanted = one_place(place);
    if (::fcntl(descriptor, F_OFD_SETLK, &wanted) == 0) return lock;
    if (errno == EAGAIN || errno == EACCES) return std::nullopt;
    throw WorkError(fmt::format("{}: this file system cannot lock files: {}; keep the ledger on another one",
                                printable(file.string()), std::strerror(errno)));
}

bool PlaceLock::is_held(const std::filesystem::path& file, std::int64_t place) {
    const Descriptor descriptor(::open(file.c_str(), O_RDONLY | O_CLOEXEC));
    if (descriptor.get() < 0) return false;
    struct flock found = one_place(place);
    return ::fcntl(descriptor.get(), F_OFD_GETLK, &found) == 0 && found.l_type != F_UNLCK;
}

PlaceLock::~PlaceLock() {
    if (descriptor_ >= 0) ::close(descriptor_);
}

}  // namespace jevrin::inline v1
