// A command of the tool: its options and its action. The command-line library is hidden behind it.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <initializer_list>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace jevrin::app {

// Thrown to end the tool with this exit status, when everything is said.
struct ExitStatus {
    int value = 0;
};

// One option, positional or named; what it is told applies to how its value is read and how --help shows it.
class Option {
  public:
    explicit Option(CLI::Option* option) : option_(option) {}

    Option& type_name(const std::string& name);
    // Type name and default as --help shows them, in full.
    Option& option_text(const std::string& text);
    Option& capture_default_str();
    Option& required();
    Option& one_of(std::initializer_list<const char*> words);
    Option& positive();
    Option& within(double low, double high);
    Option& within(int low, int high);
    Option& delimiter(char separator);
    // Of a list: one value for each time the option is named, so that a positional argument may follow.
    Option& one_each_time();
    Option& excludes(const Option& other);
    Option& needs(const Option& other);
    // How often it was given.
    std::size_t count() const;
    // As it is written: "--part", "RUN".
    std::string name() const;

  private:
    CLI::Option* option_;
};

// InputError "--part REASON" when one of them was given.
void refuse_options(const std::vector<Option>& options, const std::string& reason);

class Command {
  public:
    explicit Command(CLI::App* command) : command_(command) {}

    // name is "RUN" for a positional one, "--part" for a named one.
    Option add_option(const std::string& name, std::string& value, const std::string& help);
    Option add_option(const std::string& name, std::filesystem::path& value, const std::string& help);
    Option add_option(const std::string& name, std::int64_t& value, const std::string& help);
    Option add_option(const std::string& name, std::uint64_t& value, const std::string& help);
    Option add_option(const std::string& name, double& value, const std::string& help);
    Option add_option(const std::string& name, std::optional<std::size_t>& value, const std::string& help);
    Option add_option(const std::string& name, std::optional<double>& value, const std::string& help);
    Option add_option(const std::string& name, std::vector<std::string>& values, const std::string& help);
    Option add_option(const std::string& name, std::vector<std::uint64_t>& values, const std::string& help);
    Option add_option(const std::string& name, std::vector<std::filesystem::path>& values,
                      const std::string& help);
    Option add_flag(const std::string& name, bool& value, const std::string& help);
    // What the command does once its options are read.
    void callback(std::function<void()> work);

  private:
    CLI::App* command_;
};

// Reads the command line, runs the command and returns the exit status of the tool: 0 done, 1 failed while
// working, 2 bad input or usage, 130 interrupted.
int run_command_line(int argc, char** argv);

}  // namespace jevrin::app
