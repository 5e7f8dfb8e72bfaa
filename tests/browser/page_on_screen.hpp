// A page in a browser, for the tests of what is seen and done on it.
#pragma once

#include "support/browser.hpp"
#include "support/trained_study.hpp"

#include "jevrin/server/page_server.hpp"

#include <fmt/format.h>

#include <string>

namespace jevrin::test {

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
    // As a literal of JavaScript.
    static std::string quoted(const std::string& text) { return json_text(Json(text)); }

    PageServer server;
    Browser browser;
};

}  // namespace jevrin::test
