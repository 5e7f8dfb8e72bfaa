// A batch script for Slurm that trains a plan: an MPI job, or an array of processes that share the ledger.
#pragma once

#include "jevrin/study/check.hpp"

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct BatchScriptSettings {
    std::filesystem::path directory;   // absolute, where the command runs
    std::vector<std::string> command;  // what each rank or task runs: its words
    // Ranks of an MPI job; 0: as many as there are runs, up to 16.
    std::int64_t ranks = 0;
    // Instead: tasks of an array. Each trains runs that no other has, by the locks of the ledger's file
    // system.
    std::int64_t array = 0;
    std::int64_t threads = 1;  // of each rank or task
    double hours = 0.0;        // the time limit; 0: twice the estimate
    std::int64_t lead = 120;   // seconds before that limit at which everything is saved
    std::string launch = "mpirun";
    std::vector<std::string> options = {};  // of the site, as sbatch takes them, without the dashes
    std::vector<std::string> setup = {};    // lines of the shell before the command
};

struct BatchScript {
    std::string text;
    std::int64_t processes = 0;  // ranks or tasks
    std::int64_t bytes = 0;      // of memory for each
    double seconds = 0.0;        // the estimate
    std::int64_t limit = 0;      // minutes
};

// Sizes come from the check, which measured on this machine. At the signal before its time limit the job
// saves what it trains and queues itself again; a job that is requeued, or submitted again, continues.
// InputError for an option that is no single line.
BatchScript slurm_script(const Plan& plan, const PlanCheck& check, const BatchScriptSettings& settings);

}  // namespace jevrin::inline v1
