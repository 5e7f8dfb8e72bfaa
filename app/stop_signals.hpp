// Signals that ask for an orderly end.
#pragma once

#include <array>
#include <csignal>

namespace jevrin::app {

// While this exists, SIGINT, SIGTERM and SIGUSR1 are noted instead of ending the process. SIGUSR1 is what
// launchers of jobs pass on to every rank, and what a scheduler sends before its time limit. A second signal
// does not wait for what is being saved.
class StopSignals {
  public:
    StopSignals();
    ~StopSignals();
    StopSignals(const StopSignals&) = delete;
    StopSignals& operator=(const StopSignals&) = delete;

    static bool asked();  // since the last one was constructed
    static void wait();   // until asked() holds

  private:
    static constexpr std::array<int, 3> signals = {SIGINT, SIGTERM, SIGUSR1};
    std::array<void (*)(int), signals.size()> before_{};
};

}  // namespace jevrin::app
