// A small study that was trained with a model of every epoch, for tests of what is said about its runs.
#pragma once

#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"

#include <algorithm>
#include <memory>
#include <string>
#include <vector>

namespace jevrin::test {

inline std::string read_text(const std::filesystem::path& file) {
    const std::vector<std::byte> bytes = read_file(file);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

inline std::size_t lines_of(const std::string& text) {
    return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
}

inline bool is_picture(const std::filesystem::path& file) {
    const std::string text = read_text(file);
    return text.starts_with("\x89PNG") || text.find("<svg") != std::string::npos;
}

class Evaluated : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<TemporaryDirectory>();
        write_small_study(directory_->path(), small_plan(3));
        EXPECT_EQ(run({"train", "plan.toml", "--keep-epochs"}).status, 0);
    }
    static void TearDownTestSuite() { directory_.reset(); }
    static CommandResult run(const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory_->path()});
    }
    static Json run_json(std::vector<std::string> arguments) {
        arguments.emplace_back("--json");
        const CommandResult result = run(arguments);
        EXPECT_EQ(result.status, 0) << result.errors;
        return parse_json(result.output);
    }
    static std::filesystem::path file(const std::string& name) { return *directory_ / name; }

    static inline std::unique_ptr<TemporaryDirectory> directory_;
};

}  // namespace jevrin::test
