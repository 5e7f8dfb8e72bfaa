#include "support/browser.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <fstream>
#include <thread>

namespace jevrin::test {
namespace {

// What WebDriver calls an element reference.
const std::string element_key = "element-6066-11e4-a52e-4f735466cecf";

Json chrome_arguments(const BrowserSettings& settings) {
    Json arguments = Json::array({"--headless=new", "--disable-gpu", "--no-first-run",
                                  "--force-device-scale-factor=1", "--disable-dev-shm-usage",
                                  fmt::format("--window-size={},{}", settings.width, settings.height)});
    if (::geteuid() == 0) arguments.push_back("--no-sandbox");
    if (settings.camera) {
        arguments.push_back("--use-fake-device-for-media-stream");
        arguments.push_back("--use-fake-ui-for-media-stream");
    }
    return arguments;
}

}  // namespace

struct Browser::Connection {
    explicit Connection(int port) : client("127.0.0.1", port) { client.set_read_timeout(60); }
    httplib::Client client;
};

Browser::Browser(const BrowserSettings& settings)
    : driver_("env", {"TMPDIR=" + temporary_.path().string(), "chromedriver", "--port=0"}) {
    const std::string started = driver_.line_with("started successfully on port");
    const std::size_t place = started.find("on port ");
    connection_ =
        std::make_unique<Connection>(place == std::string::npos ? 1 : std::stoi(started.substr(place + 8)));
    Json options = {{"args", chrome_arguments(settings)}};
    if (!settings.downloads.empty())
        options["prefs"] = {{"download.default_directory", settings.downloads.string()},
                            {"download.prompt_for_download", false},
                            {"profile.default_content_setting_values.automatic_downloads", 1}};
    const Json session =
        call("POST", "/session",
             {{"capabilities",
               {{"alwaysMatch",
                 {{"goog:chromeOptions", options}, {"goog:loggingPrefs", {{"browser", "ALL"}}}}}}}});
    session_ = session.value("sessionId", "");
    tell("Emulation.setDeviceMetricsOverride", {{"width", settings.width},
                                                {"height", settings.height},
                                                {"deviceScaleFactor", 1},
                                                {"mobile", false}});
    Json media = Json::array();
    if (settings.dark) media.push_back({{"name", "prefers-color-scheme"}, {"value", "dark"}});
    if (settings.reduced_motion) media.push_back({{"name", "prefers-reduced-motion"}, {"value", "reduce"}});
    if (!media.empty()) tell("Emulation.setEmulatedMedia", {{"features", media}});
    if (settings.offline) {
        tell("Network.enable", Json::object());
        tell("Network.emulateNetworkConditions",
             {{"offline", true}, {"latency", 0}, {"downloadThroughput", 0}, {"uploadThroughput", 0}});
    }
    if (std::getenv("JEVRIN_PAGE_COVERAGE") != nullptr) {
        tell("Profiler.enable", Json::object());
        tell("Profiler.startPreciseCoverage", {{"callCount", true}, {"detailed", true}});
    }
}

Browser::~Browser() {
    if (!connection_ || session_.empty()) return;
    keep_coverage();
    connection_->client.Delete("/session/" + session_);
}

Json Browser::tell(const char* command, const Json& parameters) {
    return call("POST", "/goog/cdp/execute", {{"cmd", command}, {"params", parameters}});
}

// For scripts/page-coverage; the next page forgets what this one ran.
void Browser::keep_coverage() {
    const char* folder = std::getenv("JEVRIN_PAGE_COVERAGE");
    if (folder == nullptr) return;
    static int files = 0;
    std::ofstream(std::filesystem::path(folder) / fmt::format("{}-{}.json", ::getpid(), files++))
        << json_text(tell("Profiler.takePreciseCoverage", Json::object()));
}

Json Browser::call(const std::string& method, const std::string& path, const Json& body) {
    const std::string full = session_.empty() ? path : "/session/" + session_ + path;
    const auto result = method == "GET" ? connection_->client.Get(full)
                                        : connection_->client.Post(full, json_text(body), "application/json");
    if (!result) {
        ADD_FAILURE() << "the browser does not answer: " << method << " " << full;
        return {};
    }
    const Json answer = parse_json(result->body);
    if (result->status != 200) ADD_FAILURE() << method << " " << full << ": " << result->body.substr(0, 600);
    const Json* value = answer.find("value");
    return value == nullptr ? Json() : *value;
}

void Browser::open(const std::string& address) {
    keep_coverage();
    call("POST", "/url", {{"url", address}});
}

Json Browser::value(const std::string& expression) {
    return call("POST", "/execute/sync",
                {{"script", "return (" + expression + ");"}, {"args", Json::array()}});
}

std::string Browser::text(const std::string& expression) {
    const Json json = value(expression);
    return json.is_string() ? json.get<std::string>() : json_text(json);
}

bool Browser::wait_for(const std::string& expression, double seconds) {
    const auto until = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
    do {
        // What cannot be evaluated yet is not true yet.
        if (value("(() => { try { return !!(" + expression + "); } catch { return false; } })()") ==
            Json(true))
            return true;
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    } while (std::chrono::steady_clock::now() < until);
    ADD_FAILURE() << "this did not become true: " << expression << "\nthe page at " << address()
                  << " says: " << text("document.body.innerText").substr(0, 1500);
    return false;
}

std::string Browser::element(const std::string& selector) {
    const Json found = call("POST", "/element", {{"using", "css selector"}, {"value", selector}});
    return found.is_object() ? found.value(element_key, "") : "";
}

void Browser::click(const std::string& selector) {
    call("POST", "/element/" + element(selector) + "/click");
}

void Browser::act(const Json& pointer_actions) {
    call("POST", "/actions",
         {{"actions", Json::array({{{"type", "pointer"},
                                    {"id", "mouse"},
                                    {"parameters", {{"pointerType", "mouse"}}},
                                    {"actions", pointer_actions}}})}});
}

void Browser::point(const std::string& selector, int dx, int dy) {
    act(Json::array({{{"type", "pointerMove"},
                      {"duration", 0},
                      {"x", dx},
                      {"y", dy},
                      {"origin", {{element_key, element(selector)}}}}}));
}

void Browser::drag(const std::string& selector, int from_dx, int to_dx) {
    const Json origin = {{element_key, element(selector)}};
    const auto move = [&](int x) {
        return Json{{"type", "pointerMove"}, {"duration", 30}, {"x", x}, {"y", 0}, {"origin", origin}};
    };
    act(Json::array({move(from_dx),
                     {{"type", "pointerDown"}, {"button", 0}},
                     move((from_dx + to_dx) / 2),
                     move(to_dx),
                     {{"type", "pointerUp"}, {"button", 0}}}));
}

void Browser::keys(const std::string& keys) {
    const Json focused = call("GET", "/element/active");
    call("POST", "/element/" + (focused.is_object() ? focused.value(element_key, "") : "") + "/value",
         {{"text", keys}});
}

void Browser::choose_file(const std::string& selector, const std::filesystem::path& file) {
    call("POST", "/element/" + element(selector) + "/value", {{"text", file.string()}});
}

void Browser::back() {
    call("POST", "/back");
}

std::string Browser::address() {
    const Json address = call("GET", "/url");
    return address.is_string() ? address.get<std::string>() : "";
}

std::vector<std::string> Browser::console() {
    std::vector<std::string> messages;
    for (const Json& entry : call("POST", "/se/log", {{"type", "browser"}})) {
        const std::string level = entry.value("level", "");
        if (level == "SEVERE" || level == "WARNING") messages.push_back(entry.value("message", ""));
    }
    return messages;
}

}  // namespace jevrin::test
