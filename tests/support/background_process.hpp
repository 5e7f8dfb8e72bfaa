// A program that runs beside a test.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::test {

class BackgroundProcess {
  public:
    // program: a path, or a name that is searched for.
    BackgroundProcess(const std::string& program, std::vector<std::string> arguments,
                      const std::filesystem::path& directory = ".");
    // Killed, with what it started, unless it has ended.
    ~BackgroundProcess();
    BackgroundProcess(const BackgroundProcess&) = delete;
    BackgroundProcess& operator=(const BackgroundProcess&) = delete;

    // The first line of its output, standard error included, that holds this text and has not been returned
    // before; fails the test when there is none within so many seconds or before it ends.
    std::string line_with(const std::string& text, double seconds = 20.0);
    // Its exit status, or 128 + signal; nothing when it runs on for so many seconds.
    std::optional<int> wait(double seconds = 20.0);
    void signal(int number);
    bool is_running();

  private:
    int process_ = -1;
    int output_ = -1;
    std::string text_;
    std::optional<int> status_;
};

}  // namespace jevrin::test
