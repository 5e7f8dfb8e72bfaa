// The threads behind parallel loops. A file of its own, so that the thread sanitizer can leave the templates
// of TBB alone (their other half is in a library it does not see) and still watch everything that runs on
// them.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>

namespace jevrin {

// Calls run(context, chunk) for each chunk in [0, count), on as many threads as set_threads() allows.
void run_on_pool(std::int64_t count, void (*run)(void*, std::int64_t), void* context);

// Work that goes on beside the caller's, on threads of the pool that have nothing else to do. Whoever waits
// helps, so that it also ends with one thread. set_threads() must not be called between run() and wait().
class PoolTask {
  public:
    PoolTask();
    // Waits.
    ~PoolTask();
    PoolTask(const PoolTask&) = delete;
    PoolTask& operator=(const PoolTask&) = delete;

    void run(std::function<void()> work);
    // Returns when the work is done, and throws what it threw; at once when nothing runs.
    void wait();

  private:
    struct Group;
    std::unique_ptr<Group> group_;
};

}  // namespace jevrin
