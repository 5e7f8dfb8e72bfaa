#include "jevrin/base/processor.hpp"

#include "jevrin/base/text.hpp"

#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <thread>

namespace jevrin::inline v1 {
namespace {

// "model name : ..." of /proc/cpuinfo; empty where there is none.
std::string model_name() {
    std::ifstream file("/proc/cpuinfo");
    for (std::string line; std::getline(file, line);)
        if (line.starts_with("model name")) {
            const std::size_t colon = line.find(": ");
            if (colon != std::string::npos) return printable(line.substr(colon + 2));
        }
    return "unknown processor";
}

std::string widest_vectors() {
#if defined(__x86_64__)
    if (__builtin_cpu_supports("avx512f")) return "AVX-512";
    if (__builtin_cpu_supports("avx2")) return "AVX2";
    return "SSE2";
#else
    return "scalar";
#endif
}

}  // namespace

const Processor& processor() {
    static const Processor found = {model_name() + ", " + widest_vectors(),
                                    static_cast<int>(std::max(1U, std::thread::hardware_concurrency())),
                                    static_cast<int>(std::max(1L, ::sysconf(_SC_NPROCESSORS_ONLN)))};
    return found;
}

}  // namespace jevrin::inline v1
