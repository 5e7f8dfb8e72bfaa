#include "jevrin/base/folder_watch.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>

namespace jevrin::inline v1 {

FolderWatch::FolderWatch(const std::filesystem::path& folder) : folder_(folder) {
    if (!std::filesystem::is_directory(folder))
        throw InputError(fmt::format("{}: there is no such folder", printable(folder.string())));
    descriptor_ = ::inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
    if (descriptor_ < 0 ||
        ::inotify_add_watch(descriptor_, folder.c_str(), IN_CLOSE_WRITE | IN_MOVED_TO | IN_DELETE_SELF) < 0) {
        const int error = errno;
        if (descriptor_ >= 0) ::close(descriptor_);
        throw WorkError(fmt::format("{}: this folder cannot be watched: {}", printable(folder.string()),
                                    std::strerror(error)));
    }
}

FolderWatch::~FolderWatch() {
    ::close(descriptor_);
}

std::vector<std::filesystem::path> FolderWatch::next(double seconds) {
    pollfd ready{.fd = descriptor_, .events = POLLIN, .revents = 0};
    std::vector<std::filesystem::path> files;
    if (::poll(&ready, 1, static_cast<int>(seconds * 1000.0)) <= 0) return files;
    alignas(inotify_event) std::array<char, 16 * 1024> buffer;
    for (;;) {
        const ssize_t length = ::read(descriptor_, buffer.data(), buffer.size());
        if (length <= 0) return files;
        for (ssize_t place = 0; place < length;) {
            const auto* event = reinterpret_cast<const inotify_event*>(buffer.data() + place);
            place += static_cast<ssize_t>(sizeof(inotify_event) + event->len);
            if ((event->mask & IN_Q_OVERFLOW) != 0)
                throw WorkError(
                    fmt::format("{}: files arrive faster than they can be followed; classify the folder "
                                "as a whole",
                                printable(folder_.string())));
            if ((event->mask & (IN_DELETE_SELF | IN_IGNORED)) != 0)
                throw WorkError(fmt::format("{}: this folder was removed", printable(folder_.string())));
            if (event->len > 0 && event->name[0] != '.' && (event->mask & IN_ISDIR) == 0)
                files.push_back(folder_ / event->name);
        }
    }
}

}  // namespace jevrin::inline v1
