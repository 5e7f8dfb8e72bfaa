#include "support/recorded_messages.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <map>
#include <mutex>
#include <regex>
#include <sstream>
#include <utility>
#include <vector>

namespace jevrin::test {
namespace {

using Messages = std::vector<std::string>;

// Without what differs from run to run.
std::string lasting(std::string message) {
    static const std::vector<std::pair<std::regex, std::string>> passing = {
        {std::regex(R"(/[\w/.-]*/jevrin-test-\w{6})"), "DIRECTORY"},
        {std::regex(R"((127\.0\.0\.1|localhost|\[::1\]):\d+)"), "$1:PORT"},
        {std::regex(R"(\b[0-9a-f]{32}\b)"), "HASH"},
        {std::regex(R"((process|pid) \d+)"), "$1 NUMBER"},
        {std::regex(R"([\d.]+ (GB|MB|kB)( of memory)? are (left|free))"), "SIZE$2 are $3"},
        {std::regex(R"(needs [\d.]+ (GB|MB|kB))"), "needs SIZE"},
        {std::regex(R"(norm [\d.e+-]+)"), "norm NUMBER"},
        {std::regex(R"(for \d+ seconds)"), "for SOME seconds"},
    };
    message = without_times(message);
    for (const auto& [pattern, word] : passing) message = std::regex_replace(message, pattern, word);
    const std::string here = std::filesystem::current_path().string();
    for (std::size_t at = 0; (at = message.find(here, at)) != std::string::npos;)
        message.replace(at, here.size(), "HERE");
    while (message.ends_with('\n')) message.pop_back();
    return message;
}

// A line with the test's name, then its messages without repetitions, their lines set in by four spaces and
// the first by two.
std::string text_of(const std::map<std::string, Messages>& tests) {
    std::string text;
    for (const auto& [test, messages] : tests) {
        text += test + "\n";
        for (const std::string& message : messages) {
            std::istringstream lines(message);
            bool first = true;
            for (std::string line; std::getline(lines, line); first = false)
                text += (first ? "  " : "    ") + line + "\n";
        }
    }
    return text;
}

std::map<std::string, Messages> read_messages(const std::filesystem::path& file) {
    std::map<std::string, Messages> tests;
    if (!std::filesystem::exists(file)) return tests;
    std::istringstream lines(read_text(file));
    Messages* messages = nullptr;
    for (std::string line; std::getline(lines, line);) {
        if (!line.starts_with("  "))
            messages = &tests[line];
        else if (!line.starts_with("    "))
            messages->push_back(line.substr(2));
        else
            messages->back() += "\n" + line.substr(4);
    }
    return tests;
}

// Whether the program has a test of this name.
bool is_test(const std::string& name) {
    const testing::UnitTest& all = *testing::UnitTest::GetInstance();
    for (int s = 0; s < all.total_test_suite_count(); ++s) {
        const testing::TestSuite& suite = *all.GetTestSuite(s);
        for (int t = 0; t < suite.total_test_count(); ++t)
            if (fmt::format("{}.{}", suite.name(), suite.GetTestInfo(t)->name()) == name) return true;
    }
    return false;
}

class MessageListener : public testing::EmptyTestEventListener {
  public:
    void note(std::string message) {
        const std::lock_guard lock(mutex_);
        message = lasting(std::move(message));
        if (!message.empty() && (messages_.empty() || messages_.back() != message))
            messages_.push_back(std::move(message));
    }
    void ignore() { ignored_ = true; }

  private:
    void OnTestStart(const testing::TestInfo&) override {
        messages_.clear();
        ignored_ = false;
    }
    void OnTestEnd(const testing::TestInfo& test) override {
        if (ignored_ || !test.result()->Passed()) return;
        const std::string program = std::filesystem::read_symlink("/proc/self/exe").filename().string();
        if (!program.starts_with("test_")) return;
        const std::filesystem::path file = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) /
                                           "tests/recorded/messages" / (program.substr(5) + ".txt");
        const std::string name = fmt::format("{}.{}", test.test_suite_name(), test.name());
        std::map<std::string, Messages> kept = read_messages(file);
        if (std::getenv("JEVRIN_WRITE_RECORDED") != nullptr && kept[name] != messages_) {
            kept[name] = messages_;
            std::erase_if(kept, [](const auto& one) { return one.second.empty() || !is_test(one.first); });
            std::filesystem::create_directories(file.parent_path());
            write_file(file, text_of(kept));
        }
        EXPECT_EQ(text_of({{name, messages_}}), text_of({{name, kept[name]}})) << file;
    }

    std::mutex mutex_;
    Messages messages_;
    bool ignored_ = false;
};

MessageListener& listener() {
    static MessageListener* const one = [] {
        auto* const made = new MessageListener;  // the test program owns it
        testing::UnitTest::GetInstance()->listeners().Append(made);
        return made;
    }();
    return *one;
}
[[maybe_unused]] const MessageListener& listens_from_the_start = listener();

}  // namespace

void note_message(std::string message) {
    listener().note(std::move(message));
}

std::string without_times(const std::string& text) {
    static const std::regex time(R"(\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?(\.\d+)?Z?)");
    return std::regex_replace(text, time, "TIME");
}

void ignore_messages() {
    listener().ignore();
}

}  // namespace jevrin::test
