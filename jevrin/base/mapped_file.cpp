#include "jevrin/base/mapped_file.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <utility>

namespace jevrin::inline v1 {

MappedFile::MappedFile(const std::filesystem::path& path) {
    int descriptor = -1;
    const auto fail = [&](const char* why) {
        if (descriptor >= 0) ::close(descriptor);
        throw InputError(fmt::format("{}: cannot read: {}; check the path and who may read it",
                                     printable(path.string()), why));
    };
    descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (descriptor < 0) fail(std::strerror(errno));
    struct stat status {};
    if (::fstat(descriptor, &status) != 0) fail(std::strerror(errno));
    if (!S_ISREG(status.st_mode)) fail("it is not a regular file");
    const auto size = static_cast<std::size_t>(status.st_size);
    if (size > 0) {
        void* address = ::mmap(nullptr, size, PROT_READ, MAP_SHARED, descriptor, 0);
        if (address == MAP_FAILED) fail(std::strerror(errno));
        bytes_ = {static_cast<const std::byte*>(address), size};
    }
    ::close(descriptor);
}

MappedFile::~MappedFile() {
    if (!bytes_.empty()) ::munmap(const_cast<std::byte*>(bytes_.data()), bytes_.size());
}

MappedFile::MappedFile(MappedFile&& other) noexcept : bytes_(std::exchange(other.bytes_, {})) {}

MappedFile& MappedFile::operator=(MappedFile&& other) noexcept {
    std::swap(bytes_, other.bytes_);
    return *this;
}

}  // namespace jevrin::inline v1
