// Whole files: read at once, written whole or not at all.
//
// Only regular files are read: a FIFO, socket or device is refused and never waited for.
#pragma once

#include "jevrin/base/descriptor.hpp"

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

// Bytes that are read at most of a file whose kind has no limit of its own.
inline constexpr std::int64_t largest_file_read = std::int64_t{1} << 36;
// Of a plan, a recipe or another text that somebody wrote.
inline constexpr std::int64_t largest_text_read = std::int64_t{1} << 24;

// All bytes of a regular file. InputError names the file and the reason when it cannot be read, or is larger
// than the limit.
std::vector<std::byte> read_file(const std::filesystem::path& path, std::int64_t limit = largest_file_read);

// The same as text.
std::string read_text(const std::filesystem::path& path, std::int64_t limit = largest_file_read);

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
// for example on a full disk) the old content stands and no temporary file is left; one that a killed process
// left behind is removed by the next that writes into this directory. Links are followed; the mode and the
// owner of a file that exists stay. What is no regular file, such as a FIFO or /dev/stdout, is written
// straight; "-" is standard output.
void write_file(const std::filesystem::path& path, std::span<const std::byte> bytes);
void write_file(const std::filesystem::path& path, std::string_view text);
// The same from pieces, one after the other.
void write_file(const std::filesystem::path& path, std::span<const std::span<const std::byte>> pieces);

// Adds text to the end of a file, which is created when there is none.
void append_to_file(const std::filesystem::path& path, std::string_view text);

// 32 hexadecimal digits that nobody else has, from the system's random numbers.
std::string random_digits();

// Whether writing to this path would not make a regular file: "-", a FIFO, a device, standard output.
bool is_stream(const std::filesystem::path& path);

// A directory that is gone when its scope ends, with all that is in it; the next remove_leftovers() takes it
// when the process dies before. WorkError when it cannot be made.
class StagingDirectory {
  public:
    // Inside this one.
    explicit StagingDirectory(const std::filesystem::path& parent);
    ~StagingDirectory();
    StagingDirectory(const StagingDirectory&) = delete;
    StagingDirectory& operator=(const StagingDirectory&) = delete;

    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
    Descriptor lock_;
};

// Copies a regular file and syncs the copy. InputError when it cannot be read, WorkError when the copy cannot
// be written; then there is none.
void copy_synced(const std::filesystem::path& from, const std::filesystem::path& to);

// Removes temporary files and staging directories of processes that died from a directory.
void remove_leftovers(const std::filesystem::path& directory);

// Makes what was created or renamed in a directory survive a loss of power.
void sync_directory(const std::filesystem::path& directory);

// Creates the directory and its parents; WorkError when that fails.
void make_directory(const std::filesystem::path& path);

}  // namespace jevrin::inline v1
