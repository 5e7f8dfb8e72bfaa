// The family of errors that Jevrin throws.
//
// Every message names the place (a file, a line, a class), says what is wrong and how to cure it, so that a
// tool may print what() as it stands. Programming mistakes are assertions, not exceptions.
#pragma once

#include <stdexcept>
#include <string>

namespace jevrin {

// Base of all errors thrown by the library.
class Error : public std::runtime_error {
  public:
    using std::runtime_error::runtime_error;
};

// What the user gave cannot be used: a plan, an image set, a model file, an option.
class InputError : public Error {
  public:
    using Error::Error;
};

// The input was fine and the work failed all the same: a full disk, a lock that another process holds.
class WorkError : public Error {
  public:
    using Error::Error;
};

// One run cannot go on, for reasons of its own: the loss is no longer a number. Other runs may.
class RunError : public WorkError {
  public:
    using WorkError::WorkError;
};

// The caller asked to stop; everything finished so far is kept.
class Interrupted : public Error {
  public:
    using Error::Error;
};

}  // namespace jevrin
