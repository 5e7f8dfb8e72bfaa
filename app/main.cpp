// The command-line tool. Exit status: 0 done, 1 failed while working, 2 bad input or usage, 130 interrupted.
#include "commands.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <csignal>
#include <new>

namespace {

// What is wrong with a command line that names no command of the tool.
std::string without_command(const CLI::App& app, const std::string& word) {
    if (word.empty() || word.starts_with('-')) return "name a command";
    std::vector<std::string> names;
    for (const CLI::App* command : app.get_subcommands({})) names.push_back(command->get_name());
    return fmt::format("no command is called '{}'{}", jevrin::printable(word),
                       jevrin::did_you_mean(word, names));
}

}  // namespace

int main(int argc, char** argv) {
    using namespace jevrin;
    // A file that reaches the limit of its size is an error of the write, not a reason to die.
    std::signal(SIGXFSZ, SIG_IGN);
    CLI::App app("Compares training regimes of image classifiers, and chooses with evidence.", "jevrin");
    app.get_formatter()->label("SUBCOMMAND", "COMMAND");
    app.set_version_flag("--version", JEVRIN_VERSION);
    app.require_subcommand(1);
    app.footer(
        "'jevrin COMMAND --help' explains a command. 'jevrin demo' shows the whole way on made-up images.");
    app::add_demo(app);
    app::add_survey(app);
    app::add_compose(app);
    app::add_check(app);
    app::add_layers(app);
    app::add_features(app);
    app::add_train(app);
    app::add_watch(app);
    app::add_runs(app);
    app::add_show(app);
    app::add_curves(app);
    app::add_diagnose(app);
    app::add_scores(app);
    app::add_classes(app);
    app::add_confusion(app);
    app::add_recall(app);
    app::add_mistakes(app);
    app::add_item(app);
    app::add_agreement(app);
    app::add_suspects(app);
    app::add_mark(app);
    app::add_marks(app);
    app::add_thresholds(app);
    app::add_choose(app);
    app::add_amounts(app);
    app::add_classify(app);
    app::add_export(app);
    app::add_note(app);
    app::add_archive(app);
    app::add_delete(app);
    app::add_merge(app);
    app::add_contrast(app);
    for (CLI::App* command : app.get_subcommands({})) command->group("Commands");
    try {
        app.parse(argc, argv);
        return 0;
    } catch (const CLI::Success& success) {
        return app.exit(success);
    } catch (const CLI::RuntimeError& status) {
        return status.get_exit_code();
    } catch (const CLI::ParseError& error) {
        fmt::print(stderr,
                   "jevrin: {}\n'jevrin --help' lists the commands, 'jevrin COMMAND --help' explains one\n",
                   app.get_subcommands().empty() ? without_command(app, argc > 1 ? argv[1] : "")
                                                 : printable(error.what()));
        return 2;
    } catch (const InputError& error) {
        fmt::print(stderr, "jevrin: {}\n", error.what());
        return 2;
    } catch (const Interrupted& error) {
        fmt::print(stderr, "jevrin: {}\n", error.what());
        return 130;
    } catch (const Error& error) {
        fmt::print(stderr, "jevrin: {}\n", error.what());
        return 1;
    } catch (const std::bad_alloc&) {
        fmt::print(stderr, "jevrin: there is not enough memory; use smaller images or a smaller batch\n");
        return 1;
    } catch (const std::exception& error) {
        fmt::print(stderr, "jevrin: failed unexpectedly: {}\n", printable(error.what()));
        return 1;
    }
}
