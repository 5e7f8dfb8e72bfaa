#include "jevrin/base/files.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace jevrin::inline v1 {

InputFile::InputFile(const std::filesystem::path& path) : path_(path) {
    struct stat status {};
    const auto refuse = [&](int error) {
        fail(fmt::format("cannot read: {}; check the path and who may read it", std::strerror(error)));
    };
    // Looked at first: opening a FIFO or a device may wait, or do something.
    if (::stat(path.c_str(), &status) != 0) refuse(errno);
    if (!S_ISREG(status.st_mode)) fail("is not a regular file; name a file");
    descriptor_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY);
    if (descriptor_ < 0) refuse(errno);
    if (::fstat(descriptor_, &status) == 0 && S_ISREG(status.st_mode)) {
        size_ = status.st_size;
        return;
    }
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

std::vector<std::byte> read_file(const std::filesystem::path& path, std::int64_t limit) {
    const InputFile file(path);
    if (file.size() > limit)
        throw InputError::in_file(printable(path.string()),
                                  fmt::format("it has {} and at most {} are read; name another file",
                                              spoken_bytes(file.size()), spoken_bytes(limit)));
    std::vector<std::byte> bytes(static_cast<std::size_t>(file.size()));
    file.read(0, bytes);
    return bytes;
}

std::string read_text(const std::filesystem::path& path, std::int64_t limit) {
    const std::vector<std::byte> bytes = read_file(path, limit);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

}  // namespace jevrin::inline v1
