// The file system that a path is on, as far as it matters to files that several processes use.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

struct FileSystem {
    std::string type;        // as it is mounted, such as "ext4" or "nfs4"; empty: not known
    bool is_shared = false;  // several machines may see it
    // What of its mount options makes locks hold on one machine alone, such as "nolock"; empty: nothing does.
    std::string local_locks;
};

FileSystem file_system_of(const std::filesystem::path& path);
// The same by the lines of /proc/self/mountinfo.
FileSystem file_system_of(const std::filesystem::path& path, std::string_view mounts);

}  // namespace jevrin::inline v1
