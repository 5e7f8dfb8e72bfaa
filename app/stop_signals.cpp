#include "stop_signals.hpp"

#include <unistd.h>

#include <atomic>
#include <chrono>
#include <cstddef>
#include <thread>

namespace jevrin::app {
namespace {

std::atomic<bool> stop_asked{false};

void ask_to_stop(int) {
    if (stop_asked.exchange(true)) ::_exit(130);
}

}  // namespace

StopSignals::StopSignals() {
    stop_asked = false;
    for (std::size_t i = 0; i < signals.size(); ++i) before_[i] = std::signal(signals[i], ask_to_stop);
}

StopSignals::~StopSignals() {
    for (std::size_t i = 0; i < signals.size(); ++i) std::signal(signals[i], before_[i]);
}

bool StopSignals::asked() {
    return stop_asked;
}

void StopSignals::wait() {
    while (!asked()) std::this_thread::sleep_for(std::chrono::milliseconds(50));
}

}  // namespace jevrin::app
