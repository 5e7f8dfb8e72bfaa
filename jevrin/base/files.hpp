// Whole files: read at once, written whole or not at all.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// All bytes of a regular file. InputError names the file and the reason when it cannot be read.
std::vector<std::byte> read_file(const std::filesystem::path& path);

// The same as text.
std::string read_text(const std::filesystem::path& path);

// A regular file of which pieces are read.
class InputFile {
  public:
    // InputError names the file and the reason.
    explicit InputFile(const std::filesystem::path& path);
    ~InputFile();
    InputFile(const InputFile&) = delete;
    InputFile& operator=(const InputFile&) = delete;

    std::int64_t size() const { return size_; }  // when it was opened
    int descriptor() const { return descriptor_; }
    // The bytes from an offset on; InputError when the file ends before them.
    void read(std::int64_t offset, std::span<std::byte> bytes) const;

  private:
    [[noreturn]] void fail(const std::string& what) const;

    std::filesystem::path path_;
    int descriptor_ = -1;
    std::int64_t size_ = 0;
};

// Replaces the file in one step: a temporary file beside it, synced, then renamed. After an error (WorkError,
// for example on a full disk) the old content stands and no temporary file is left.
void write_file(const std::filesystem::path& path, std::span<const std::byte> bytes);
void write_file(const std::filesystem::path& path, std::string_view text);
// The same from pieces, one after the other.
void write_file(const std::filesystem::path& path, std::span<const std::span<const std::byte>> pieces);

// Creates the directory and its parents; WorkError when that fails.
void make_directory(const std::filesystem::path& path);

}  // namespace jevrin::inline v1
