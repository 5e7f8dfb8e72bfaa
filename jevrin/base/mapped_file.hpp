// Memory-mapped files.
#pragma once

#include <cstddef>
#include <filesystem>
#include <span>

namespace jevrin::inline v1 {

// A regular file, mapped for reading. It must not become shorter while it is mapped.
class MappedFile {
  public:
    MappedFile() = default;
    // InputError names the file and the reason.
    explicit MappedFile(const std::filesystem::path& path);
    ~MappedFile();
    MappedFile(MappedFile&& other) noexcept;
    MappedFile& operator=(MappedFile&& other) noexcept;

    std::span<const std::byte> bytes() const { return bytes_; }

  private:
    std::span<const std::byte> bytes_;
};

}  // namespace jevrin::inline v1
