#include "command.hpp"

#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/version.hpp"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include <algorithm>
#include <new>
#include <set>
#include <sstream>
#include <string_view>
#include <system_error>

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
std::string Option::name() const {
    return option_->get_name();
}

void refuse_options(const std::vector<Option>& options, const std::string& reason) {
    for (const Option& option : options)
        if (option.count() > 0) throw InputError(option.name() + " " + reason);
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
Option Command::add_option(const std::string& name, std::vector<std::uint64_t>& values,
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

// The error of a command line that names no command of the tool, or no verb of a command that has some.
std::string without_command(const std::string& kind, const std::string& word,
                            const std::vector<CommandEntry>& entries) {
    std::vector<std::string> names;
    for (const CommandEntry& entry : entries) names.emplace_back(entry.name);
    if (!word.empty() && !word.starts_with('-'))
        return fmt::format("no {} is called '{}'{}", kind, printable(word), did_you_mean(word, names));
    return kind == "verb" ? fmt::format("name a verb: {}", fmt::join(names, ", ")) : "name a command";
}

std::string usage_error(const CLI::App& app, const CLI::ParseError& error, int argc, char** argv) {
    const auto word = [&](int i) { return std::string(argc > i ? argv[i] : ""); };
    std::vector<CommandEntry> all;
    for (const CommandGroup& group : command_groups())
        all.insert(all.end(), group.commands.begin(), group.commands.end());
    const std::vector<CLI::App*> commands = app.get_subcommands();
    if (commands.empty()) return without_command("command", word(1), all);
    for (const CommandEntry& entry : all)
        if (entry.name == commands.front()->get_name() && !entry.verbs.empty() &&
            commands.front()->get_subcommands().empty())
            return without_command("verb", word(2), entry.verbs);
    return printable(error.what());
}

void add_command(CLI::App& parent, const CommandEntry& entry, const std::string& group) {
    CLI::App* command = parent.add_subcommand(entry.name, entry.help);
    command->group(group);
    if (entry.verbs.empty()) {
        Command own(command);
        entry.add(own);
        return;
    }
    const auto formatter = std::make_shared<CLI::Formatter>();
    formatter->label("SUBCOMMAND", "VERB");
    command->formatter(formatter);
    command->require_subcommand(1);
    command->footer(fmt::format("'jevrin {} VERB --help' explains a verb.", entry.name));
    for (const CommandEntry& verb : entry.verbs) add_command(*command, verb, "verbs");
}

int fail(int status, const std::string& message) {
    report_error(message, status);
    return status;
}

// Reads the command line and runs the command, or prints the help that it asks for.
void parse(CLI::App& app, int argc, char** argv) {
    try {
        app.parse(argc, argv);
    } catch (const CLI::Success& success) {
        std::ostringstream text;
        app.exit(success, text, text);
        print(text.str());
    }
}

// The same; what is thrown becomes a message and an exit status.
int read_and_run(CLI::App& app, int argc, char** argv) {
    try {
        parse(app, argc, argv);
        return 0;
    } catch (const CLI::ParseError& error) {
        return fail(2, fmt::format("{}\n'jevrin --help' lists the commands, 'jevrin COMMAND --help' explains "
                                   "one",
                                   usage_error(app, error, argc, argv)));
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
        const std::string words = printable(error.what());
        // Of the thread library, or of the parallel loops, which tell it by their text alone.
        if (dynamic_cast<const std::system_error*>(&error) != nullptr ||
            words.find("pthread_create") != std::string::npos)
            return fail(1, fmt::format("the system refused: {}; end other programs, or raise the limit on "
                                       "processes (ulimit -u)",
                                       words));
        return fail(1, fmt::format("failed unexpectedly: {}", words));
    }
}

bool asks_for_json(int argc, char** argv) {
    return std::any_of(argv, argv + argc,
                       [](const char* word) { return std::string_view(word) == "--json"; });
}

}  // namespace

int run_command_line(int argc, char** argv) {
    CLI::App app("Compares training regimes of image classifiers, and chooses with evidence.", "jevrin");
    app.get_formatter()->label("SUBCOMMAND", "COMMAND");
    app.set_version_flag("--version", library_version());
    app.require_subcommand(1);
    app.footer(
        "'jevrin COMMAND --help' explains a command. 'jevrin demo' runs a complete example on generated "
        "images.");
    for (const CommandGroup& group : command_groups())
        for (const CommandEntry& entry : group.commands) add_command(app, entry, group.stage);
    if (asks_for_json(argc, argv)) use_json_errors();
    const int status = read_and_run(app, argc, argv);
    stream_warnings();
    return status;
}

}  // namespace jevrin::app
