// The page in a browser: how long its reader waits. Each figure beside what it may take, as a ratio of it.
#include "figures.hpp"
#include "large_ledger.hpp"
#include "measure.hpp"
#include "support/browser.hpp"

#include "jevrin/pages/report.hpp"
#include "jevrin/server/page_server.hpp"

#include <fmt/format.h>

namespace {

using namespace jevrin;
using test::Browser;

// Ledgers are made once and kept until the end.
class Ledgers {
  public:
    ~Ledgers() { std::filesystem::remove_all(root_); }
    const std::filesystem::path& of(const std::string& name, const bench::LargeLedger& size) {
        auto [known, is_new] = made_.try_emplace(name, root_ / name);
        if (is_new) {
            std::filesystem::create_directories(known->second);
            bench::make_large_ledger(known->second, size);
        }
        return known->second;
    }

  private:
    std::filesystem::path root_ =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-page-{}", ::getpid());
    std::map<std::string, std::filesystem::path> made_;
};

const std::filesystem::path& ledger_of(const std::string& name) {
    static Ledgers ledgers;
    if (name == "small") return ledgers.of(name, {.candidates = 7, .seeds = 3, .epochs = 20, .classes = 6});
    if (name == "curves")
        return ledgers.of(name, {.candidates = 60, .seeds = 1, .epochs = 200, .classes = 6});
    if (name == "classes")
        return ledgers.of(
            name, {.candidates = 3, .seeds = 1, .epochs = 200, .classes = 200, .items_per_class = 20});
    return ledgers.of("large", {.candidates = 200, .seeds = 5, .epochs = 200, .classes = 50});
}

// Milliseconds, and what part they are of what they may take.
void put(benchmark::State& state, const std::vector<double>& milliseconds, double most) {
    for (const double one : milliseconds) state.SetIterationTime(one / 1e3);
    state.counters["value"] = bench::median(milliseconds);
    state.counters["ratio"] = bench::median(milliseconds) / most;
}

// Milliseconds from the begin of the navigation until the expression is true; asking is part of it.
double shown_after(Browser& browser, const std::string& address, const std::string& expression) {
    browser.open("about:blank");
    browser.open(address);
    browser.wait_for(expression, 30);
    return browser.value("performance.now()").get<double>();
}

void first_answer(benchmark::State& state, const std::string& ledger, double most) {
    PageServer server({.ledger = ledger_of(ledger)}, {});
    Browser browser;
    const std::string answer = "document.querySelector('.answer h1')";
    shown_after(browser, server.address(),
                answer);  // the browser itself has begun, and the answer is computed
    std::vector<double> milliseconds;
    for (auto _ : state) milliseconds.push_back(shown_after(browser, server.address(), answer));
    put(state, milliseconds, most);
}

void matrix_drawn(benchmark::State& state) {
    PageServer server({.ledger = ledger_of("classes")}, {});
    Browser browser;
    std::vector<double> milliseconds;
    for (auto _ : state) {
        shown_after(browser, server.address(), "document.querySelector('.answer h1')");
        // From the click until the frame after its drawing.
        browser.value(R"js((() => {
            const begin = performance.now();
            const seen = () => {
                if (document.querySelector('canvas.matrix')?.width > 300)
                    requestAnimationFrame(() => { window.drawn = performance.now() - begin; });
                else requestAnimationFrame(seen);
            };
            requestAnimationFrame(seen);
            document.querySelector('nav a[href*=run]').click();
        })())js");
        browser.wait_for("window.drawn", 30);
        milliseconds.push_back(browser.value("window.drawn").get<double>());
    }
    put(state, milliseconds, 300.0);
}

// Frame by frame; the page says how long each took.
std::vector<double> frames_of(Browser& browser, const std::string& step) {
    browser.value(
        "window.frames = [], window.done = false, (() => { let i = 0; let last = performance.now(); const "
        "next = () => { const now = "
        "performance.now(); if (i > 0) window.frames.push(now - last); last = now; if (" +
        step +
        ") requestAnimationFrame(next); else window.done = true; ++i; }; requestAnimationFrame(next); })()");
    browser.wait_for("window.done", 60);
    return browser.value("[...window.frames]").get<std::vector<double>>();
}

void scrubbing(benchmark::State& state) {
    PageServer server({.ledger = ledger_of("classes")}, {});
    Browser browser;
    browser.open(server.address() + "#/run");
    browser.wait_for("document.querySelector('.film input')?.max === '200'", 30);
    std::vector<double> milliseconds;
    for (auto _ : state)
        for (const double frame :
             frames_of(browser,
                       "(() => { const s = document.querySelector('.film input'); s.value = i + 1; "
                       "s.dispatchEvent(new Event('input')); return i < 199; })()"))
            milliseconds.push_back(frame);
    put(state, milliseconds, 50.0);  // 20 epochs a second
}

void pointing(benchmark::State& state) {
    PageServer server({.ledger = ledger_of("curves")}, {});
    Browser browser;
    browser.open(server.address() + "#/curves");
    browser.wait_for("document.querySelectorAll('.chart .line').length === 120", 30);
    const std::string move =
        "(() => { const c = document.querySelector('.chart'); const b = c.getBoundingClientRect(); const x = "
        "b.left + 60 + 3 * i; "
        "c.dispatchEvent(new PointerEvent('pointermove', { clientX: x, clientY: b.top + 50, bubbles: true "
        "})); return x < b.right - 20; })()";
    frames_of(browser, move);
    double longest = 0.0;
    for (auto _ : state) {
        for (const double frame : frames_of(browser, move)) longest = std::max(longest, frame);
        state.SetIterationTime(longest / 1e3);
    }
    state.counters["value"] = longest;
    state.counters["ratio"] = longest / 50.0;
}

void report(benchmark::State& state) {
    const Ledger ledger = Ledger::open(ledger_of("small"));
    const std::filesystem::path file = ledger.directory() / "report.html";
    std::vector<double> milliseconds;
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        state.counters["megabytes"] =
            static_cast<double>(write_report(ledger, ledger.study(), file).bytes) / 1e6;
        milliseconds.push_back(1e3 * bench::seconds_since(begin));
    }
    put(state, milliseconds, 3000.0);
}

}  // namespace

int main(int argc, char** argv) {
    using bench::add_figure;
    add_figure("page/first_answer", 5, [](benchmark::State& state) { first_answer(state, "small", 300.0); });
    add_figure("page/first_answer_1000_runs", 5,
               [](benchmark::State& state) { first_answer(state, "large", 1500.0); });
    add_figure("page/matrix_200_classes", 5, matrix_drawn);
    add_figure("page/epoch_of_200_classes", 1, scrubbing);
    add_figure("page/pointing_60_curves", 3, pointing);
    add_figure("page/report", 3, report);
    return bench::run(argc, argv);
}
