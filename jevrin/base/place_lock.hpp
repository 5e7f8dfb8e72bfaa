// Locks that are released when their holder dies.
#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <utility>

namespace jevrin::inline v1 {

// Holds one place of a lock file for its lifetime; the system gives it back when the process dies. Any number
// of places can be held by different holders, in one process or several.
class PlaceLock {
  public:
    // Nothing when somebody else holds the place. WorkError when the file cannot be locked.
    static std::optional<PlaceLock> try_hold(const std::filesystem::path& file, std::int64_t place);
    // Whether somebody holds it now; false when there is no such file.
    static bool is_held(const std::filesystem::path& file, std::int64_t place);

    ~PlaceLock();
    PlaceLock(PlaceLock&& other) noexcept : descriptor_(std::exchange(other.descriptor_, -1)) {}
    PlaceLock& operator=(PlaceLock&&) = delete;

  private:
    explicit PlaceLock(int descriptor) : descriptor_(descriptor) {}

    int descriptor_ = -1;
};

}  // namespace jevrin::inline v1
