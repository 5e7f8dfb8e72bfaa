#include "jevrin/images/content_cache.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

#include <sys/stat.h>

#include <chrono>
#include <cstring>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr std::string_view heading = "jevrin contents 2\n";
constexpr std::int64_t second = 1'000'000'000;

template <typename Value>
void append(std::string& text, const Value& value) {
    static_assert(std::is_trivially_copyable_v<Value>);
    text.append(reinterpret_cast<const char*>(&value), sizeof(value));
}

void append_text(std::string& text, const std::string& value) {
    append(text, static_cast<std::uint32_t>(value.size()));
    text += value;
}

// Takes values from the front; false when there are not enough bytes.
template <typename Value>
bool take(std::string_view& text, Value& value) {
    if (text.size() < sizeof(value)) return false;
    std::memcpy(&value, text.data(), sizeof(value));
    text.remove_prefix(sizeof(value));
    return true;
}

bool take_text(std::string_view& text, std::string& value) {
    std::uint32_t length = 0;
    if (!take(text, length) || text.size() < length) return false;
    value = text.substr(0, length);
    text.remove_prefix(length);
    return true;
}

std::int64_t nanoseconds(const timespec& time) {
    return static_cast<std::int64_t>(time.tv_sec) * second + time.tv_nsec;
}

}  // namespace

std::optional<FileState> state_of(const std::filesystem::path& file) {
    struct stat status {};
    if (::stat(file.c_str(), &status) != 0) return std::nullopt;
    return FileState{.size = static_cast<std::uint64_t>(status.st_size),
                     .inode = status.st_ino,
                     .changed = nanoseconds(status.st_mtim),
                     .status_changed = nanoseconds(status.st_ctim)};
}

ContentCache::ContentCache(std::filesystem::path file) : file_(std::move(file)) {
    std::error_code ignored;
    if (!std::filesystem::exists(file_, ignored)) return;
    std::string whole;
    try {
        whole = read_text(file_);
    } catch (const InputError&) {
        return;
    }
    std::string_view text = whole;
    std::uint64_t checksum = 0;
    if (!text.starts_with(heading) || text.size() < heading.size() + sizeof(checksum)) return;
    std::memcpy(&checksum, text.data() + text.size() - sizeof(checksum), sizeof(checksum));
    text.remove_suffix(sizeof(checksum));
    if (content_number(text) != checksum) return;
    text.remove_prefix(heading.size());
    std::string path;
    Entry entry;
    while (take_text(text, path) && take(text, entry.state) && take(text, entry.content.hash) &&
           take(text, entry.content.facts) && take(text, entry.content.perceptual_hash) &&
           take(text, entry.content.brightest) && take_text(text, entry.content.problem))
        entries_[path] = entry;
}

std::optional<FileContent> ContentCache::find(const std::string& path, const FileState& state) const {
    const std::lock_guard lock(mutex_);
    const auto found = entries_.find(path);
    if (found == entries_.end() || found->second.state != state) return std::nullopt;
    return found->second.content;
}

void ContentCache::put(const std::string& path, const FileState& state, const FileContent& content) {
    timespec now{};
    ::clock_gettime(CLOCK_REALTIME, &now);
    // Within the grain of the clock a second change would leave the same times.
    if (state.status_changed > nanoseconds(now) - second) return;
    const std::lock_guard lock(mutex_);
    entries_[path] = {state, content};
    changed_ = true;
}

void ContentCache::save() {
    if (!changed_) return;
    std::string text(heading);
    for (const auto& [path, entry] : entries_) {
        append_text(text, path);
        append(text, entry.state);
        append(text, entry.content.hash);
        append(text, entry.content.facts);
        append(text, entry.content.perceptual_hash);
        append(text, entry.content.brightest);
        append_text(text, entry.content.problem);
    }
    append(text, content_number(text));
    write_file(file_, text);
    changed_ = false;
}

}  // namespace jevrin::inline v1
