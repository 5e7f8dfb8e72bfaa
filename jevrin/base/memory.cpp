#include "jevrin/base/memory.hpp"

#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <fstream>
#include <string>

namespace jevrin::inline v1 {
namespace {

std::atomic<std::int64_t> chosen_limit{0};

std::int64_t machine_memory() {
    return static_cast<std::int64_t>(sysconf(_SC_PHYS_PAGES)) *
           static_cast<std::int64_t>(sysconf(_SC_PAGESIZE));
}

// The limit of the control group, or the machine's memory where there is none.
std::int64_t group_memory() {
    for (const char* file : {"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"}) {
        std::ifstream in(file);
        std::int64_t bytes = 0;
        if (in >> bytes && bytes > 0) return bytes;
    }
    return machine_memory();
}

// A line of /proc/self/status such as "VmRSS:   1234 kB", in bytes.
std::int64_t status_line(const std::string& name) {
    std::ifstream in("/proc/self/status");
    std::string word;
    while (in >> word)
        if (word == name) {
            std::int64_t kilobytes = 0;
            in >> kilobytes;
            return kilobytes * 1024;
        }
    return 0;
}

}  // namespace

std::int64_t memory_limit() {
    const std::int64_t chosen = chosen_limit;
    if (chosen > 0) return chosen;
    return std::min(machine_memory(), group_memory()) / 10 * 9;
}

void set_memory_limit(std::int64_t bytes) {
    chosen_limit = std::max<std::int64_t>(0, bytes);
}

std::int64_t resident_memory() {
    return status_line("VmRSS:");
}

std::int64_t peak_memory() {
    return status_line("VmHWM:");
}

}  // namespace jevrin::inline v1
