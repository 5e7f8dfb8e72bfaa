// The threads behind parallel loops. A file of its own, so that the thread sanitizer can leave the templates
// of TBB alone (their other half is in a library it does not see) and still watch everything that runs on
// them.
#pragma once

#include <cstdint>
#include <memory>

namespace jevrin::inline v1 {

// Calls run(context, chunk) for each chunk in [0, count), on as many threads as set_threads() allows.
void run_on_pool(std::int64_t count, void (*run)(void*, std::int64_t), void* context);

// Calls that continue beside the caller's work, on threads that have nothing else to do. Whoever waits helps,
// so that it also ends with one thread.
class PoolGroup {
  public:
    PoolGroup();
    ~PoolGroup();
    PoolGroup(const PoolGroup&) = delete;
    PoolGroup& operator=(const PoolGroup&) = delete;

    // call(context) must not throw.
    void run(void (*call)(void*), void* context);
    void wait();

  private:
    struct Tasks;
    std::unique_ptr<Tasks> tasks_;
};

}  // namespace jevrin::inline v1
