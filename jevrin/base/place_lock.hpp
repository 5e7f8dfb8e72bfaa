// Locks that are released when their holder dies.
#pragma once

#include "jevrin/base/descriptor.hpp"

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
    // WorkError when the file cannot be locked at all.
    static void require_locks(const std::filesystem::path& file) { try_hold(file, 0); }
    // Whether somebody holds it now; false when there is no such file.
    static bool is_held(const std::filesystem::path& file, std::int64_t place);

    // Whether the lock file is still the one that this holds.
    bool is_in_place() const;
    // Takes the place in a file that replaced a deleted one. False when somebody else holds it there.
    bool renew();

  private:
    PlaceLock(Descriptor descriptor, std::filesystem::path file, std::int64_t place)
        : descriptor_(std::move(descriptor)), file_(std::move(file)), place_(place) {}

    Descriptor descriptor_;
    std::filesystem::path file_;
    std::int64_t place_;
};

}  // namespace jevrin::inline v1
