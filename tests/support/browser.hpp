// A browser without a window, driven through the W3C WebDriver protocol.
//
//     Browser browser;
//     browser.open(server.address());
//     browser.wait_for("document.querySelector('h1')");
//     browser.click("nav a[href*=curves]");
#pragma once

#include "support/background_process.hpp"
#include "support/support.hpp"

#include "jevrin/base/json.hpp"

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

namespace jevrin::test {

struct BrowserSettings {
    int width = 1280;
    int height = 800;
    bool dark = false;            // the system prefers dark colours
    bool reduced_motion = false;  // and no motion
    bool offline = false;         // no network at all, this machine included
    bool camera = false;          // one that films a test pattern, allowed without asking
    std::filesystem::path downloads = {};
};

class Browser {
  public:
    explicit Browser(const BrowserSettings& settings = {});
    ~Browser();
    Browser(const Browser&) = delete;
    Browser& operator=(const Browser&) = delete;

    void open(const std::string& address);
    // The value of an expression of JavaScript.
    Json value(const std::string& expression);
    std::string text(const std::string& expression);
    // Until the expression is true; fails the test, with what the page shows, when it is not within so many
    // seconds.
    bool wait_for(const std::string& expression, double seconds = 30.0);
    // The first element that a CSS selector finds.
    void click(const std::string& selector);
    // Moves the pointer over the middle of an element plus an offset in pixels; press holds the button and
    // moves on.
    void point(const std::string& selector, int dx = 0, int dy = 0);
    void drag(const std::string& selector, int from_dx, int to_dx);
    // Keys to whatever has the focus; special keys as WebDriver has them ("\uE015" is arrow down).
    void keys(const std::string& keys);
    // Chooses a file in an input.
    void choose_file(const std::string& selector, const std::filesystem::path& file);
    void back();
    std::string address();
    // Errors and warnings that the page wrote to its console since the last call.
    std::vector<std::string> console();

  private:
    Json call(const std::string& method, const std::string& path, const Json& body = Json::object());
    Json tell(const char* command, const Json& parameters);
    void keep_coverage();
    std::string element(const std::string& selector);
    void act(const Json& pointer_actions);

    struct Connection;
    TemporaryDirectory temporary_;  // where the browser leaves files when it is killed
    BackgroundProcess driver_;
    std::unique_ptr<Connection> connection_;
    std::string session_;
};

}  // namespace jevrin::test
