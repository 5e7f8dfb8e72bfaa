#include "jevrin/figures/gnuplot.hpp"

#include "jevrin/base/descriptor.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <fontconfig/fontconfig.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <mutex>
#include <unordered_map>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr auto patience = std::chrono::seconds(120);

// What gnuplot may see of the environment: nothing that changes what it draws, or how.
std::vector<std::string> plain_environment() {
    std::vector<std::string> kept = {"LC_ALL=C.UTF-8"};
    for (const char* name : {"PATH", "HOME", "TMPDIR", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "FONTCONFIG_FILE",
                             "FONTCONFIG_PATH"})
        if (const char* value = std::getenv(name); value != nullptr)
            kept.push_back(fmt::format("{}={}", name, value));
    return kept;
}

struct Pipe {
    Descriptor read;
    Descriptor write;

    Pipe() {
        std::array<int, 2> ends{};
        if (::pipe2(ends.data(), O_CLOEXEC) != 0)
            throw WorkError(fmt::format("cannot start gnuplot: {}", std::strerror(errno)));
        read = Descriptor(ends[0]);
        write = Descriptor(ends[1]);
    }
};

void set_nonblocking(const Descriptor& descriptor) {
    ::fcntl(descriptor.get(), F_SETFL, ::fcntl(descriptor.get(), F_GETFL) | O_NONBLOCK);
}

// A started gnuplot, which ends with this object at the latest.
class Child {
  public:
    Child(const Pipe& input, const Pipe& output, const Pipe& messages) {
        posix_spawn_file_actions_t actions;
        posix_spawn_file_actions_init(&actions);
        posix_spawn_file_actions_adddup2(&actions, input.read.get(), STDIN_FILENO);
        posix_spawn_file_actions_adddup2(&actions, output.write.get(), STDOUT_FILENO);
        posix_spawn_file_actions_adddup2(&actions, messages.write.get(), STDERR_FILENO);
        std::string program = "gnuplot";
        std::string defaults = "--default-settings";
        char* const arguments[] = {program.data(), defaults.data(), nullptr};
        std::vector<std::string> variables = plain_environment();
        std::vector<char*> environment;
        for (std::string& variable : variables) environment.push_back(variable.data());
        environment.push_back(nullptr);
        const int error =
            ::posix_spawnp(&child_, "gnuplot", &actions, nullptr, arguments, environment.data());
        posix_spawn_file_actions_destroy(&actions);
        if (error == EAGAIN || error == ENOMEM)
            throw WorkError(fmt::format("cannot start gnuplot: {}; end other programs, or raise the limit",
                                        std::strerror(error)));
        if (error != 0) throw WorkError("gnuplot cannot be started; install the Debian package gnuplot-nox");
    }
    ~Child() {
        if (child_ <= 0) return;
        ::kill(child_, SIGKILL);
        wait();
    }
    Child(const Child&) = delete;
    Child& operator=(const Child&) = delete;

    // Whether it ended well.
    bool wait() {
        int status = 0;
        while (::waitpid(child_, &status, 0) < 0 && errno == EINTR) {
        }
        child_ = 0;
        return WIFEXITED(status) && WEXITSTATUS(status) == 0;
    }

  private:
    pid_t child_ = 0;
};

struct Drawing {
    bool finished = false;
    std::string bytes;
    std::string messages;
};

// A gnuplot that stops reading must not end this process.
class WithoutPipeSignal {
  public:
    WithoutPipeSignal() {
        struct sigaction ignore {};
        ignore.sa_handler = SIG_IGN;
        ::sigaction(SIGPIPE, &ignore, &before_);
    }
    ~WithoutPipeSignal() { ::sigaction(SIGPIPE, &before_, nullptr); }
    WithoutPipeSignal(const WithoutPipeSignal&) = delete;
    WithoutPipeSignal& operator=(const WithoutPipeSignal&) = delete;

  private:
    struct sigaction before_ {};
};

// Feeds the script to gnuplot's standard input and collects what it draws and says; no shell and no file
// takes part.
Drawing run_gnuplot(const std::string& script) {
    const WithoutPipeSignal guard;
    Pipe input;
    Pipe output;
    Pipe messages;
    Child child(input, output, messages);
    input.read.close();
    output.write.close();
    messages.write.close();
    set_nonblocking(input.write);
    Drawing drawing;
    std::size_t fed = 0;
    const auto until = std::chrono::steady_clock::now() + patience;
    const auto collect = [](Descriptor& from, std::string& text) {
        std::array<char, 65536> buffer;
        const ssize_t got = ::read(from.get(), buffer.data(), buffer.size());
        if (got > 0) text.append(buffer.data(), static_cast<std::size_t>(got));
        if (got == 0 || (got < 0 && errno != EINTR)) from.close();
    };
    while (output.read.is_open() || messages.read.is_open()) {
        const auto left =
            std::chrono::duration_cast<std::chrono::milliseconds>(until - std::chrono::steady_clock::now());
        if (left.count() <= 0)
            throw WorkError(fmt::format("gnuplot did not finish within {} seconds; draw less, or try again",
                                        patience.count()));
        std::array<pollfd, 3> watched = {{{input.write.get(), POLLOUT, 0},
                                          {output.read.get(), POLLIN, 0},
                                          {messages.read.get(), POLLIN, 0}}};
        ::poll(watched.data(), watched.size(), static_cast<int>(left.count()));
        if (watched[0].revents != 0) {
            const ssize_t put = ::write(input.write.get(), script.data() + fed, script.size() - fed);
            if (put > 0) fed += static_cast<std::size_t>(put);
            if (fed == script.size() || (put < 0 && errno != EINTR && errno != EAGAIN)) input.write.close();
        }
        if (watched[1].revents != 0) collect(output.read, drawing.bytes);
        if (watched[2].revents != 0) collect(messages.read, drawing.messages);
    }
    drawing.finished = child.wait();
    return drawing;
}

// Whether a figure has its end.
bool is_whole(const std::string& bytes, bool png) {
    // A PNG ends in an empty IEND chunk with its checksum.
    if (png) return bytes.size() > 12 && bytes.substr(bytes.size() - 8, 4) == "IEND";
    return bytes.find("</svg>", bytes.size() - std::min<std::size_t>(bytes.size(), 16)) != std::string::npos;
}

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

std::string gnuplot_tic(std::string_view text) {
    std::string doubled;
    for (const char c : text) doubled.append(c == '%' ? 2 : 1, c);
    return gnuplot_string(doubled);
}

void draw_figure(const std::string& script, const std::filesystem::path& file, int width, int height,
                 std::span<const std::byte> data) {
    const std::string ending = folded_case(file.extension().string());
    const bool streamed = is_stream(file) && ending.empty();
    if (ending != ".png" && ending != ".svg" && !streamed)
        throw InputError(fmt::format("{}: figures are written as .png or .svg; choose one of these endings",
                                     printable(file.string())));
    if (file.has_parent_path() && !streamed) make_directory(file.parent_path());
    const bool png = ending != ".svg";
    std::string whole = fmt::format(
        "set terminal {} noenhanced size {},{} font 'DejaVu Sans,11' background rgb 'white'\nset "
        "output\n{}\n",
        png ? "pngcairo" : "svg", width, height, script);
    whole.append(reinterpret_cast<const char*>(data.data()), data.size());
    whole += "\nunset output\n";
    const Drawing drawing = run_gnuplot(whole);
    if (!drawing.finished || !is_whole(drawing.bytes, png))
        throw WorkError(fmt::format("{}: gnuplot could not draw this figure{}{}; the file is unchanged",
                                    printable(file.string()), drawing.messages.empty() ? "" : ": ",
                                    printable(drawing.messages.substr(0, 400))));
    write_file(file, drawing.bytes);
}

}  // namespace jevrin::inline v1
