#include "jevrin/mpi/job.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/mpi/mpi_ranks.hpp"

#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// Variables that launchers of MPI set for each process: Open MPI, PMIx, PMI.
constexpr std::array ranks_named = {"OMPI_COMM_WORLD_RANK", "PMIX_RANK", "PMI_RANK"};

bool is_rank() {
    return std::any_of(ranks_named.begin(), ranks_named.end(),
                       [](const char* name) { return std::getenv(name) != nullptr; });
}

// Beside the program as it is installed or built; else where this library was installed.
std::vector<fs::path> module_places() {
    std::error_code ignored;
    const fs::path program = fs::read_symlink("/proc/self/exe", ignored);
    return {program.parent_path() / JEVRIN_MODULES_BESIDE / JEVRIN_MPI_MODULE,
            fs::path(JEVRIN_MODULES) / JEVRIN_MPI_MODULE};
}

}  // namespace

std::unique_ptr<Ranks> join_job() {
    if (!is_rank()) return nullptr;
    std::string reason = "its module " JEVRIN_MPI_MODULE " is not installed";
    for (const fs::path& place : module_places()) {
        std::error_code ignored;
        if (!fs::exists(place, ignored)) continue;
        void* module = ::dlopen(place.c_str(), RTLD_NOW | RTLD_GLOBAL);
        if (module == nullptr) {
            reason = ::dlerror();
            continue;
        }
        const auto join = reinterpret_cast<JoinFunction>(::dlsym(module, join_function));
        if (join == nullptr) {
            reason = fmt::format("{} is of another version of Jevrin", place.string());
            continue;
        }
        if (Ranks* ranks = join()) return std::unique_ptr<Ranks>(ranks);
        reason = "MPI did not begin";
    }
    throw InputError(fmt::format(
        "this process was started as one of several of a job, and Jevrin cannot use MPI here: {}; "
        "install Open MPI (libopenmpi3 and openmpi-bin), or start the command without mpirun",
        printable(reason)));
}

}  // namespace jevrin::inline v1
