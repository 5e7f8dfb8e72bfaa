#include "support/background_process.hpp"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <thread>

namespace jevrin::test {
namespace {

using Clock = std::chrono::steady_clock;

Clock::time_point in_seconds(double seconds) {
    return Clock::now() + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(seconds));
}

}  // namespace

BackgroundProcess::BackgroundProcess(const std::string& program, std::vector<std::string> arguments,
                                     const std::filesystem::path& directory) {
    std::string name = program;
    std::vector<char*> argv = {name.data()};
    for (std::string& argument : arguments) argv.push_back(argument.data());
    argv.push_back(nullptr);
    int pipe[2] = {-1, -1};
    if (::pipe2(pipe, O_CLOEXEC) != 0) return;
    process_ = ::fork();
    if (process_ == 0) {
        ::setpgid(0, 0);  // so that what it starts ends with it
        ::dup2(pipe[1], STDOUT_FILENO);
        ::dup2(pipe[1], STDERR_FILENO);
        if (::chdir(directory.c_str()) != 0) ::_exit(99);
        ::execvp(argv[0], argv.data());
        ::_exit(97);
    }
    ::setpgid(process_, process_);
    ::close(pipe[1]);
    output_ = pipe[0];
}

BackgroundProcess::~BackgroundProcess() {
    if (process_ > 0) ::kill(-process_, SIGKILL);
    if (!status_ && process_ > 0) ::waitpid(process_, nullptr, 0);
    ::close(output_);
}

std::string BackgroundProcess::line_with(const std::string& wanted, double seconds) {
    const auto until = in_seconds(seconds);
    for (std::size_t begin = 0;;) {
        for (std::size_t end; (end = text_.find('\n', begin)) != std::string::npos; begin = end + 1) {
            const std::string line = text_.substr(begin, end - begin);
            if (line.find(wanted) == std::string::npos) continue;
            text_.erase(0, end + 1);
            return line;
        }
        const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
        pollfd waiting{output_, POLLIN, 0};
        char buffer[4096];
        const ssize_t got = left > 0 && ::poll(&waiting, 1, static_cast<int>(left)) > 0
                                ? ::read(output_, buffer, sizeof buffer)
                                : 0;
        if (got <= 0) {
            ADD_FAILURE() << "no line with '" << wanted << "' in: " << text_;
            return "";
        }
        text_.append(buffer, static_cast<std::size_t>(got));
    }
}

std::optional<int> BackgroundProcess::wait(double seconds) {
    for (const auto until = in_seconds(seconds); !status_ && Clock::now() < until;) {
        int status = 0;
        if (::waitpid(process_, &status, WNOHANG) == process_)
            status_ = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
        else
            std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    return status_;
}

void BackgroundProcess::signal(int number) {
    ::kill(process_, number);
}

bool BackgroundProcess::is_running() {
    return !wait(0.001);
}

}  // namespace jevrin::test
