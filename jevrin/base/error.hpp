// The family of errors that Jevrin throws.
//
// Every message says what is wrong, where (a file, a line, a class) and what to do, so that a tool may print
// what() unchanged. Programming errors are assertions, not exceptions.
#pragma once

#include <stdexcept>
#include <string>

namespace jevrin::inline v1 {

// Base of all errors thrown by the library.
class Error : public std::runtime_error {
  public:
    using std::runtime_error::runtime_error;
};

// How much of its place an error names already: whoever passes it on adds what is missing.
enum class ErrorPlace {
    open,
    part,  // a node, a layer, a weight within a file
    file,  // the file, perhaps with a line
};

// What the user gave cannot be used: a plan, an image set, a model file, an option.
class InputError : public Error {
  public:
    explicit InputError(const std::string& message, ErrorPlace place = ErrorPlace::open)
        : Error(message), place_(place) {}
    // "FILE: REASON".
    static InputError in_file(const std::string& file, const std::string& reason) {
        InputError error(file + ": " + reason, ErrorPlace::file);
        error.reason_begin_ = file.size() + 2;
        return error;
    }

    ErrorPlace place() const { return place_; }
    // What is wrong, without the file that in_file() put before it.
    std::string reason() const { return std::string(what()).substr(reason_begin_); }

  private:
    ErrorPlace place_;
    std::size_t reason_begin_ = 0;
};

// The input was fine and the work failed all the same: a full disk, a lock that another process holds.
class WorkError : public Error {
  public:
    using Error::Error;
};

// One run cannot continue, for reasons of its own: the loss is NaN or infinite. Other runs may.
class RunError : public WorkError {
  public:
    using WorkError::WorkError;
};

// The caller asked to stop; everything finished so far is kept.
class Interrupted : public Error {
  public:
    using Error::Error;
};

}  // namespace jevrin::inline v1
