// The command-line tool.
#include "command.hpp"

#include <csignal>

int main(int argc, char** argv) {
    // A file that reaches the limit of its size is an error of the write, not a reason to die.
    std::signal(SIGXFSZ, SIG_IGN);
    return jevrin::app::run_command_line(argc, argv);
}
