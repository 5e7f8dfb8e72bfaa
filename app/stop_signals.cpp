#include "stop_signals.hpp"

#include <atomic>
#include <chrono>
#include <csignal>
#include <thread>

namespace jevrin::app {
namespace {

std::atomic<bool> was_signalled{false};

}  // namespace

StopSignals::StopSignals() {
    for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { was_signalled = true; });
}

void StopSignals::wait() const {
    while (!was_signalled) std::this_thread::sleep_for(std::chrono::milliseconds(50));
}

}  // namespace jevrin::app
