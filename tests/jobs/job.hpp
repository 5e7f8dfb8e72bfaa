// Jobs of several processes, started as users start them.
#pragma once

#include "support/background_process.hpp"
#include "support/support.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::test {

// Whether a program is found; tests are skipped with its name when it is not.
bool is_installed(const std::string& program);

// Sets variables that launchers heed: more ranks than processors, and root.
void allow_small_machines();

// A command of the shell, in a directory. mpirun in it is allowed to run as root and to start more ranks than
// there are processors. What it prints goes to a file, LOG, in the directory.
class Job {
  public:
    Job(const std::filesystem::path& directory, const std::string& command,
        const std::string& log = "job.log");

    // Its exit status; the test fails when it runs on for so long.
    int wait(double seconds = 120.0);
    bool is_running() { return process_.is_running(); }
    void signal(int number) { process_.signal(number); }
    std::string output() const;

  private:
    std::filesystem::path log_;
    BackgroundProcess process_;
};

// The processes that train into this directory, by their command lines.
std::vector<int> training_processes(const std::filesystem::path& directory);

// Waits until a condition holds; false when it does not within so many seconds.
bool comes_true(const std::function<bool()>& condition, double seconds = 60.0);

}  // namespace jevrin::test
