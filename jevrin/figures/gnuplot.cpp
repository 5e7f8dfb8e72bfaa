#include "jevrin/figures/gnuplot.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <fontconfig/fontconfig.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cerrno>
#include <cstring>
#include <mutex>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

// Feeds the script to gnuplot's standard input and returns what it says on standard error; no shell takes
// part.
std::string run_gnuplot(const std::string& script, int& status) {
    std::array<int, 2> input{};
    std::array<int, 2> messages{};
    if (::pipe2(input.data(), O_CLOEXEC) != 0 || ::pipe2(messages.data(), O_CLOEXEC) != 0)
        throw WorkError(fmt::format("cannot start gnuplot: {}", std::strerror(errno)));
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, input[0], STDIN_FILENO);
    posix_spawn_file_actions_adddup2(&actions, messages[1], STDERR_FILENO);
    posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
    std::string program = "gnuplot";
    std::string defaults = "--default-settings";
    char* const arguments[] = {program.data(), defaults.data(), nullptr};
    pid_t child = 0;
    const int error = ::posix_spawnp(&child, "gnuplot", &actions, nullptr, arguments, environ);
    posix_spawn_file_actions_destroy(&actions);
    ::close(input[0]);
    ::close(messages[1]);
    if (error != 0) {
        ::close(input[1]);
        ::close(messages[0]);
        throw WorkError("gnuplot cannot be started; install the Debian package gnuplot-nox");
    }
    // A gnuplot that stops reading must not end this process.
    struct sigaction ignore {};
    struct sigaction before {};
    ignore.sa_handler = SIG_IGN;
    ::sigaction(SIGPIPE, &ignore, &before);
    for (std::size_t done = 0; done < script.size();) {
        const ssize_t put = ::write(input[1], script.data() + done, script.size() - done);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) break;
        done += static_cast<std::size_t>(put);
    }
    ::close(input[1]);
    ::sigaction(SIGPIPE, &before, nullptr);
    std::string errors;
    std::array<char, 4096> buffer{};
    for (;;) {
        const ssize_t got = ::read(messages[0], buffer.data(), buffer.size());
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) break;
        errors.append(buffer.data(), static_cast<std::size_t>(got));
    }
    ::close(messages[0]);
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    return errors;
}

}  // namespace

namespace {

// The library of fonts, for as long as the program runs.
struct Fonts {
    std::mutex guard;
    std::unordered_map<FcChar32, bool> known;  // characters asked for so far

    Fonts() { FcInit(); }
    ~Fonts() { FcFini(); }
    Fonts(const Fonts&) = delete;
    Fonts& operator=(const Fonts&) = delete;
};

bool some_font_has(FcChar32 character) {
    static Fonts fonts_of_program;
    auto& [guard, known] = fonts_of_program;
    const std::lock_guard lock(guard);
    const auto [place, added] = known.emplace(character, false);
    if (!added) return place->second;
    FcCharSet* characters = FcCharSetCreate();
    FcCharSetAddChar(characters, character);
    FcPattern* pattern = FcPatternCreate();
    FcPatternAddCharSet(pattern, FC_CHARSET, characters);
    FcObjectSet* nothing = FcObjectSetCreate();
    FcFontSet* fonts = FcFontList(nullptr, pattern, nothing);
    place->second = fonts != nullptr && fonts->nfont > 0;
    if (fonts != nullptr) FcFontSetDestroy(fonts);
    FcObjectSetDestroy(nothing);
    FcPatternDestroy(pattern);
    FcCharSetDestroy(characters);
    return place->second;
}

// The drawing library fills half of the figure with the code of a character that no font has.
std::string drawable(const std::string& text) {
    std::string result;
    for (std::size_t i = 0; i < text.size();) {
        FcChar32 character = 0;
        const int length = FcUtf8ToUcs4(reinterpret_cast<const FcChar8*>(text.data() + i), &character,
                                        static_cast<int>(text.size() - i));
        const auto bytes = static_cast<std::size_t>(std::max(1, length));
        result += length == 1 || (length > 1 && some_font_has(character)) ? text.substr(i, bytes) : "?";
        i += bytes;
    }
    return result;
}

}  // namespace

std::string gnuplot_string(std::string_view text) {
    // Everything that could mean something to gnuplot is written as its code: \140 is a backquote to look at,
    // but none to run. Quoting by doubling is not enough, since a string that begins with a quote ends at
    // once.
    std::string result = "\"";
    bool after_code = false;
    for (const char c : drawable(printable(text))) {
        const auto byte = static_cast<unsigned char>(c);
        const bool plain =
            std::isalnum(byte) != 0 || c == ' ' || c == '.' || c == ',' || c == '-' || c == '/' || c == ':';
        // A digit right after a code would be read as part of it.
        const bool coded = !plain || (after_code && std::isdigit(byte) != 0);
        result += coded ? fmt::format("\\{:03o}", byte) : std::string(1, c);
        after_code = coded;
    }
    return result + "\"";
}

void draw_figure(const std::string& script, const std::filesystem::path& file, int width, int height) {
    const std::string ending = folded_case(file.extension().string());
    if (ending != ".png" && ending != ".svg")
        throw InputError(fmt::format("{}: figures are written as .png or .svg; choose one of these endings",
                                     printable(file.string())));
    if (file.has_parent_path()) make_directory(file.parent_path());
    const std::filesystem::path drawn = file.string() + fmt::format(".{}.part", ::getpid());
    const char* const terminal = ending == ".png" ? "pngcairo" : "svg";
    const std::string whole = fmt::format(
        "set terminal {} noenhanced size {},{} font 'DejaVu Sans,11' background rgb 'white'\nset output "
        "{}\n{}\n"
        "unset output\n",
        terminal, width, height, gnuplot_string(drawn.string()), script);
    int status = 0;
    const std::string errors = run_gnuplot(whole, status);
    std::error_code error;
    const bool made = WIFEXITED(status) && WEXITSTATUS(status) == 0 &&
                      std::filesystem::file_size(drawn, error) > 0 && !error;
    if (!made) {
        std::filesystem::remove(drawn, error);
        throw WorkError(fmt::format(
            "{}: gnuplot could not draw this figure{}{}; check that the directory can be written",
            printable(file.string()), errors.empty() ? "" : ": ", printable(errors.substr(0, 400))));
    }
    std::filesystem::rename(drawn, file, error);
    if (error)
        throw WorkError(fmt::format("{}: cannot write: {}", printable(file.string()), error.message()));
}

}  // namespace jevrin::inline v1
