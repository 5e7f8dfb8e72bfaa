// The threads behind parallel loops. A file of its own, so that the thread sanitizer can leave the templates
// of TBB alone (their other half is in a library it does not see) and still watch everything that runs on
// them.
#pragma once

#include <cstdint>

namespace jevrin {

// Calls run(context, chunk) for each chunk in [0, count), on as many threads as set_threads() allows.
void run_on_pool(std::int64_t count, void (*run)(void*, std::int64_t), void* context);

}  // namespace jevrin
