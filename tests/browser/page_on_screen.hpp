// A page in a browser, for the tests of what is seen and done on it.
#pragma once

#include "support/browser.hpp"
#include "support/trained_study.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/server/page_server.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <string>

namespace jevrin::test {

// A special key, as WebDriver has it.
inline const std::string arrow_right = "\xee\x80\x94";

// What a test does on a page that a server of its own delivers.
class PageOnScreen {
  public:
    explicit PageOnScreen(const std::filesystem::path& ledger, const BrowserSettings& settings = {})
        : server({.ledger = ledger}, {}), browser(settings) {}

    // One of its views, "run?run=..."; waits until its heading stands.
    void show(const std::string& view) {
        browser.open(server.address() + "#/" + view);
        browser.wait_for(
            "document.querySelector('main h1') && !document.querySelector('main > [role=status]')");
    }
    // The text of the first element that a CSS selector finds.
    std::string text(const std::string& selector) {
        return browser.text(
            fmt::format("[document.querySelector({})].map(e => e?.innerText ?? e?.textContent ?? '')[0]",
                        quoted(selector)));
    }
    std::int64_t count(const std::string& selector) {
        return browser.value(fmt::format("document.querySelectorAll({}).length", quoted(selector)))
            .get<std::int64_t>();
    }
    bool wait_for_text(const std::string& selector, const std::string& part, double seconds = 30.0) {
        return browser.wait_for(
            fmt::format(
                "[document.querySelector({})].some(e => (e?.innerText ?? e?.textContent ?? '').includes({}))",
                quoted(selector), quoted(part)),
            seconds);
    }
    // A value is chosen or written in the control that a CSS selector finds, or in the one with this label.
    void set(const std::string& selector, const std::string& value) {
        set_found("document.querySelector(" + quoted(selector) + ")", value);
    }
    void choose(const std::string& label, const std::string& value) {
        set_found("[...document.querySelectorAll('label')].find(e => e.firstElementChild?.innerText === " +
                      quoted(label) + ")?.querySelector('select, input')",
                  value);
    }
    // The button, checkbox or link with this text is pressed.
    void press(const std::string& text) {
        const std::string found =
            "[...document.querySelectorAll('button, label, a')].find(e => e.innerText.trim() === " +
            quoted(text) + ")";
        if (browser.wait_for(found)) browser.value(found + ".click()");
    }
    // The texts of all elements that a CSS selector finds, with commas between them.
    std::string texts(const std::string& selector) {
        return browser.text(
            fmt::format("[...document.querySelectorAll({})].map(e => e.innerText ?? e.textContent).join()",
                        quoted(selector)));
    }
    // Waits until the rows of the tables that a CSS selector finds are these, with commas between them.
    void wait_for_rows(const std::string& selector, const std::string& expected) {
        browser.wait_for(
            fmt::format("[...document.querySelectorAll({})].map(e => e.dataset.id).join() === {}",
                        quoted(selector + " tbody tr"), quoted(expected)),
            10.0);
    }
    // As a literal of JavaScript.
    static std::string quoted(const std::string& text) { return json_text(Json(text)); }

    PageServer server;
    Browser browser;

  private:
    void set_found(const std::string& control, const std::string& value) {
        if (browser.wait_for(control))
            browser.value(
                fmt::format("[{}].map(e => (e.value = {}, ['input', 'change'].forEach(kind => "
                            "e.dispatchEvent(new Event(kind))))) && 0",
                            control, quoted(value)));
    }
};

// What a browser saved in its folder of downloads.
inline std::string saved_file(const std::filesystem::path& file) {
    for (int tries = 0; tries < 250; ++tries) {
        std::error_code none;
        if (std::filesystem::file_size(file, none) > 0 && !none) {
            const std::vector<std::byte> bytes = read_file(file);
            return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
        }
        ::usleep(20'000);
    }
    ADD_FAILURE() << file << " was not saved";
    return {};
}

}  // namespace jevrin::test
