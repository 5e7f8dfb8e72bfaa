#include "jevrin/base/file_system.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <sstream>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr std::array shared_types = {"nfs",       "nfs4",       "cifs",           "smb3",        "lustre",
                                     "gpfs",      "beegfs",     "ceph",           "9p",          "afs",
                                     "glusterfs", "fuse.sshfs", "orangefs",       "pvfs2",       "gfs2",
                                     "ocfs2",     "panfs",      "fuse.glusterfs", "fuse.juicefs"};
// Of NFS, CIFS and Lustre.
constexpr std::array local_lock_options = {"nolock", "local_lock=all", "local_lock=posix",
                                           "nobrl",  "noflock",        "localflock"};

// Spaces and backslashes in paths are written as \040 and the like.
std::string unescaped(const std::string& text) {
    std::string plain;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '\\' && i + 3 < text.size()) {
            plain += static_cast<char>(std::strtol(text.substr(i + 1, 3).c_str(), nullptr, 8));
            i += 3;
        } else {
            plain += text[i];
        }
    }
    return plain;
}

bool is_below(const std::filesystem::path& path, const std::filesystem::path& root) {
    const auto [end, same] = std::mismatch(root.begin(), root.end(), path.begin(), path.end());
    return end == root.end() || (std::next(end) == root.end() && end->empty());
}

}  // namespace

FileSystem file_system_of(const std::filesystem::path& path, std::string_view mounts) {
    std::error_code ignored;
    const std::filesystem::path whole =
        std::filesystem::weakly_canonical(std::filesystem::absolute(path), ignored);
    FileSystem found;
    std::size_t depth = 0;
    std::istringstream lines{std::string(mounts)};
    // "36 35 98:0 /root /mount/point rw,noatime optional - nfs4 server:/x rw,nolock"
    for (std::string line; std::getline(lines, line);) {
        const std::size_t separator = line.find(" - ");
        if (separator == std::string::npos) continue;
        std::istringstream before(line.substr(0, separator));
        std::istringstream after(line.substr(separator + 3));
        std::string skipped;
        std::string point;
        std::string type;
        std::string options;
        before >> skipped >> skipped >> skipped >> skipped >> point;
        after >> type >> skipped >> options;
        point = unescaped(point);
        // A later mount on the same place hides the earlier one.
        if (point.size() < depth || !is_below(whole, point)) continue;
        depth = point.size();
        found = {
            .type = type,
            .is_shared = std::find(shared_types.begin(), shared_types.end(), type) != shared_types.end()};
        if (!found.is_shared) continue;
        std::istringstream words(options);
        for (std::string word; std::getline(words, word, ',');)
            if (std::find(local_lock_options.begin(), local_lock_options.end(), word) !=
                local_lock_options.end())
                found.local_locks = word;
    }
    return found;
}

FileSystem file_system_of(const std::filesystem::path& path) {
    try {
        return file_system_of(path, read_text("/proc/self/mountinfo"));
    } catch (const InputError&) {
        return {};  // a system that does not tell
    }
}

}  // namespace jevrin::inline v1
