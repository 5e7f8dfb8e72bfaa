// The command-line tool.
#include "command.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <csignal>

namespace {

// A descriptor that the caller closed must not become that of the next file. Reading from and writing to what
// takes its place fails, as it would have; what would go to standard error is lost.
void open_standard_streams() {
    for (const int descriptor : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (::fcntl(descriptor, F_GETFD) == -1)
            ::open("/dev/null", descriptor == STDOUT_FILENO ? O_RDONLY : O_WRONLY);
}

void end_at_once(int) {
    constexpr char words[] = "jevrin: interrupted\n";
    [[maybe_unused]] const ssize_t put = ::write(STDERR_FILENO, words, sizeof(words) - 1);
    ::_exit(130);
}

}  // namespace

int main(int argc, char** argv) {
    // What is written whole or not at all stays so; 'train' saves first.
    std::signal(SIGINT, end_at_once);
    std::signal(SIGTERM, end_at_once);
    open_standard_streams();
    // A reader that ends is an error of the write, like a disk that is full.
    std::signal(SIGPIPE, SIG_IGN);
    // A file that reaches the limit of its size is an error of the write, not a reason to die.
    std::signal(SIGXFSZ, SIG_IGN);
    return jevrin::app::run_command_line(argc, argv);
}
