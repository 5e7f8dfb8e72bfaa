#include "jevrin/tensor/libraries.hpp"

#include <Eigen/Core>
#include <fmt/format.h>
#include <tbb/version.h>

#ifdef JEVRIN_LIBXSMM
#include <libxsmm.h>
#endif

namespace jevrin::inline v1 {

std::map<std::string, std::string> compute_libraries() {
    std::map<std::string, std::string> versions = {
        {"Eigen", fmt::format("{}.{}.{}", EIGEN_WORLD_VERSION, EIGEN_MAJOR_VERSION, EIGEN_MINOR_VERSION)},
        {"oneTBB", TBB_runtime_version()}};
#ifdef JEVRIN_LIBXSMM
    versions["LIBXSMM"] = LIBXSMM_VERSION;
#endif
    return versions;
}

}  // namespace jevrin::inline v1
