// What several tests need: a directory of their own, small made-up images and plans, the tool run as a user
// runs it.
#pragma once

#include "support/recorded_messages.hpp"

#include "jevrin/graph/graph.hpp"
#include "jevrin/images/image.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <functional>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::test {

// A fresh directory, removed at the end of the test.
class TemporaryDirectory {
  public:
    TemporaryDirectory();
    ~TemporaryDirectory();
    TemporaryDirectory(const TemporaryDirectory&) = delete;
    TemporaryDirectory& operator=(const TemporaryDirectory&) = delete;
    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }

  private:
    std::filesystem::path path_;
};

inline std::span<const std::byte> bytes_of(const std::string& text) {
    return std::as_bytes(std::span(text));
}

// The message of the exception of this type that work() throws, which is compared with the one that is kept;
// fails the test when it throws none.
template <typename Expected>
std::string message_of(const std::function<void()>& work) {
    try {
        work();
    } catch (const Expected& error) {
        note_message(error.what());
        return error.what();
    }
    ADD_FAILURE() << "no exception was thrown";
    return "";
}

// A document of the project, "docs/guide.md".
std::string document(const std::string& name);

// What stands between the fences of a language in a document.
std::vector<std::string> code_blocks(const std::string& name, const std::string& language);

// An image whose colour and stripes tell its class, with noise from its number.
Image small_picture(std::size_t label, std::uint64_t number, std::int64_t side = 16);

// A folder per class with small images, PNG and JPEG in turn.
void write_small_set(const std::filesystem::path& root, const std::vector<std::string>& classes,
                     int per_class);

// A backbone trained on nothing: random weights, written as a model file with classes and preparation.
void write_small_backbone(const std::filesystem::path& file, std::int64_t size = 16);

// A plan over DIR/images and DIR/backbone.onnx with one candidate of each regime; extra goes into [training].
std::string small_plan(int epochs = 2, const std::string& extra = "", const std::string& seeds = "[1, 2]");

// Writes images, backbone and plan into a directory; returns the plan's file.
std::filesystem::path write_small_study(const std::filesystem::path& directory, const std::string& plan);

// Normal numbers from a seed.
Tensor random_tensor(const Shape& shape, std::uint64_t seed, double deviation = 1.0);

// What a network computes of a batch of inputs: [batch, outputs].
std::vector<float> outputs_of(const Network& network, std::int64_t batch, const Tensor& input);

struct CommandResult {
    int status = 0;  // exit status, or 128 + signal
    std::string output;
    std::string errors;
};

// Everything the finished runs of a ledger's last study say, as bytes: weights, curves, layers, warnings,
// predictions. For three classes; times are left out.
std::string story(const std::filesystem::path& ledger);

struct CommandOptions {
    std::filesystem::path directory = ".";
    long largest_file_bytes = -1;  // writes beyond it fail, as on a full disk
    bool as_nobody = false;        // without root's rights, when the test runs as root
    double kill_after_seconds = -1.0;
    double signal_after_seconds = -1.0;  // SIGINT
    long memory_bytes = -1;              // of addresses
    long open_files = -1;
    // Where standard output and error go instead: a file that exists, or "closed".
    std::string output = {};
    std::string errors = {};
    std::vector<std::pair<std::string, std::string>> environment = {};  // besides that of the test
    std::filesystem::path program;                                      // instead of the tool
};

// Runs the tool, or another program.
CommandResult run_jevrin(const std::vector<std::string>& arguments, const CommandOptions& options = {});

}  // namespace jevrin::test
