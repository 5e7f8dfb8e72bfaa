// What the module of MPI has for those who load it.
#pragma once

#include "jevrin/study/ranks.hpp"

namespace jevrin::inline v1 {

inline constexpr const char* join_function = "jevrin_join_mpi_job_1";
// The ranks of this job; the caller deletes it. Null when MPI cannot be begun.
using JoinFunction = Ranks* (*)();

}  // namespace jevrin::inline v1
