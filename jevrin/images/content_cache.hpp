// A cache of what was found in image files: a file that did not change is not read again.
//
// A file counts as unchanged while its size, inode, and times of change (of content and of status) are the
// same; times of change of status cannot be set by programs. The cache is one file, safe to delete; damaged
// or of another version it counts as empty.
#pragma once

#include "jevrin/base/hash.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/perceptual_hash.hpp"

#include <cstdint>
#include <filesystem>
#include <mutex>
#include <optional>
#include <string>
#include <unordered_map>

namespace jevrin::inline v1 {

// What one reading of a file gives.
struct FileContent {
    ContentHash hash;
    ImageFacts facts;
    PerceptualHash perceptual_hash{};
    std::uint8_t brightest = 255;  // see Item
    std::string problem;           // why it cannot be used; empty: it can
};

struct FileState {
    std::uint64_t size = 0;
    std::uint64_t inode = 0;
    std::int64_t changed = 0;         // nanoseconds
    std::int64_t status_changed = 0;  // nanoseconds

    bool operator==(const FileState&) const = default;
};

// Nothing when the file cannot be looked at.
std::optional<FileState> state_of(const std::filesystem::path& file);

class ContentCache {
  public:
    // Takes what the file holds, when it is whole.
    explicit ContentCache(std::filesystem::path file);

    // These two may be called from several threads.
    std::optional<FileContent> find(const std::string& path, const FileState& state) const;
    // Kept only when the file's last change is old enough that another would show in its times.
    void put(const std::string& path, const FileState& state, const FileContent& content);

    // Writes what was added, when anything was. WorkError when it cannot be written.
    void save();

  private:
    struct Entry {
        FileState state;
        FileContent content;
    };
    std::filesystem::path file_;
    mutable std::mutex mutex_;
    std::unordered_map<std::string, Entry> entries_;
    bool changed_ = false;
};

}  // namespace jevrin::inline v1
