// The version of the library.
#pragma once

namespace jevrin::inline v1 {

// "0.2.0": what runs, models and ranks of a job say they were made by.
const char* library_version();

}  // namespace jevrin::inline v1
