#include "jobs/job.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <thread>

namespace jevrin::test {

void allow_small_machines() {
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
    ::setenv("OMPI_MCA_rmaps_base_oversubscribe", "1", 1);
    // Open MPI keeps memory until the end of its process.
    ::setenv("ASAN_OPTIONS", "detect_leaks=0", 0);
}

bool is_installed(const std::string& program) {
    const std::string command = "command -v " + program + " > /dev/null 2>&1";
    return std::system(command.c_str()) == 0;
}

Job::Job(const std::filesystem::path& directory, const std::string& command, const std::string& log)
    : log_(directory / log),
      process_((allow_small_machines(), "sh"),
               {"-c", fmt::format("exec {} > '{}' 2>&1", command, log_.string())}, directory) {}

int Job::wait(double seconds) {
    const std::optional<int> status = process_.wait(seconds);
    if (!status) ADD_FAILURE() << "the job does not end:\n" << output();
    return status.value_or(-1);
}

std::string Job::output() const {
    return std::filesystem::exists(log_) ? read_text(log_) : "";
}

std::vector<int> training_processes(const std::filesystem::path& directory) {
    std::vector<int> processes;
    for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
        const std::string name = entry.path().filename();
        if (name.find_first_not_of("0123456789") != std::string::npos) continue;
        FILE* file = std::fopen((entry.path() / "cmdline").c_str(), "r");
        if (file == nullptr) continue;
        std::string line(4096, '\0');
        line.resize(std::fread(line.data(), 1, line.size(), file));
        std::fclose(file);
        if (line.starts_with(JEVRIN_PROGRAM) && line.find(directory.string()) != std::string::npos)
            processes.push_back(std::stoi(name));
    }
    return processes;
}

bool comes_true(const std::function<bool()>& condition, double seconds) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
    while (!condition()) {
        if (std::chrono::steady_clock::now() > end) return false;
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    return true;
}

}  // namespace jevrin::test
