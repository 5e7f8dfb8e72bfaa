// The job of MPI that this process belongs to, when mpirun or a scheduler started it as one of several.
//
//     const std::unique_ptr<Ranks> ranks = join_job();
//     if (ranks && ranks->rank() > 0) return help_train(*ranks, {.ledger = "ledger"});
//
// MPI itself is in a module of its own, which is loaded here: a program that is started alone needs no MPI.
#pragma once

#include "jevrin/study/ranks.hpp"

#include <memory>

namespace jevrin::inline v1 {

// Null when this process was not started as a rank of a job. Of all threads the one that calls this lives
// longest; there is one job in the life of a process. InputError when it is a rank, and the module or the MPI
// library is missing.
std::unique_ptr<Ranks> join_job();

}  // namespace jevrin::inline v1
