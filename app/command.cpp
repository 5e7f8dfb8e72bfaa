#include "command.hpp"

#include "commands.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include <new>
#include <set>

namespace jevrin::app {

Option& Option::type_name(const std::string& name) {
    option_->type_name(name);
    return *this;
}
Option& Option::option_text(const std::string& text) {
    option_->option_text(text);
    return *this;
}
Option& Option::capture_default_str() {
    option_->capture_default_str();
    return *this;
}
Option& Option::required() {
    option_->required();
    return *this;
}
Option& Option::one_of(std::initializer_list<const char*> words) {
    option_->check(CLI::IsMember(std::set<std::string>(words.begin(), words.end())));
    return *this;
}
Option& Option::positive() {
    option_->check(CLI::PositiveNumber);
    return *this;
}
Option& Option::within(double low, double high) {
    option_->check(CLI::Range(low, high));
    return *this;
}
Option& Option::within(int low, int high) {
    option_->check(CLI::Range(low, high));
    return *this;
}
Option& Option::delimiter(char separator) {
    option_->delimiter(separator);
    return *this;
}
Option& Option::one_each_time() {
    option_->allow_extra_args(false);
    return *this;
}
Option& Option::excludes(const Option& other) {
    option_->excludes(other.option_);
    return *this;
}
Option& Option::needs(const Option& other) {
    option_->needs(other.option_);
    return *this;
}
std::size_t Option::count() const {
    return option_->count();
}

Option Command::add_option(const std::string& name, std::string& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::filesystem::path& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::int64_t& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::uint64_t& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, double& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::optional<std::size_t>& value,
                           const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::optional<double>& value, const std::string& help) {
    return Option(command_->add_option(name, value, help));
}
Option Command::add_option(const std::string& name, std::vector<std::string>& values,
                           const std::string& help) {
    return Option(command_->add_option(name, values, help));
}
Option Command::add_option(const std::string& name, std::vector<std::filesystem::path>& values,
                           const std::string& help) {
    return Option(command_->add_option(name, values, help));
}
Option Command::add_flag(const std::string& name, bool& value, const std::string& help) {
    return Option(command_->add_flag(name, value, help));
}
void Command::callback(std::function<void()> work) {
    command_->callback(std::move(work));
}

namespace {

// What is wrong with a command line that names no command of the tool.
std::string without_command(const std::string& word) {
    if (word.empty() || word.starts_with('-')) return "name a command";
    std::vector<std::string> names;
    for (const CommandGroup& group : command_groups())
        for (const CommandEntry& entry : group.commands) names.emplace_back(entry.name);
    return fmt::format("no command is called '{}'{}", printable(word), did_you_mean(word, names));
}

int fail(int status, const std::string& message) {
    fmt::print(stderr, "jevrin: {}\n", message);
    return status;
}

int read_and_run(CLI::App& app, int argc, char** argv) {
    try {
        app.parse(argc, argv);
        return 0;
    } catch (const CLI::Success& success) {
        return app.exit(success);
    } catch (const CLI::ParseError& error) {
        return fail(2, fmt::format("{}\n'jevrin --help' lists the commands, 'jevrin COMMAND --help' explains "
                                   "one",
                                   app.get_subcommands().empty() ? without_command(argc > 1 ? argv[1] : "")
                                                                 : printable(error.what())));
    } catch (const ExitStatus& status) {
        return status.value;
    } catch (const InputError& error) {
        return fail(2, error.what());
    } catch (const Interrupted& error) {
        return fail(130, error.what());
    } catch (const Error& error) {
        return fail(1, error.what());
    } catch (const std::bad_alloc&) {
        return fail(1, "there is not enough memory; use smaller images or a smaller batch");
    } catch (const std::exception& error) {
        return fail(1, fmt::format("failed unexpectedly: {}", printable(error.what())));
    }
}

}  // namespace

int run_command_line(int argc, char** argv) {
    CLI::App app("Compares training regimes of image classifiers, and chooses with evidence.", "jevrin");
    app.get_formatter()->label("SUBCOMMAND", "COMMAND");
    app.set_version_flag("--version", JEVRIN_VERSION);
    app.require_subcommand(1);
    app.footer(
        "'jevrin COMMAND --help' explains a command. 'jevrin demo' shows the whole way on made-up images.");
    for (const CommandGroup& group : command_groups())
        for (const CommandEntry& entry : group.commands) {
            CLI::App* command = app.add_subcommand(entry.name, entry.help);
            command->group(group.stage);
            Command own(command);
            entry.add(own);
        }
    return read_and_run(app, argc, argv);
}

}  // namespace jevrin::app
