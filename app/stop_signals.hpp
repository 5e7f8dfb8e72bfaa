// Ctrl-C and SIGTERM end what serves until somebody ends it.
#pragma once

namespace jevrin::app {

// From its construction on a signal is noted instead of ending the process.
class StopSignals {
  public:
    StopSignals();
    void wait() const;  // until there was one
};

}  // namespace jevrin::app
