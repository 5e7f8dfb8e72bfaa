// The processes of one job, numbered from 0, and the messages between them. Rank 0 has the ledger; the others
// train runs and talk to rank 0 alone.
//
// How messages travel is somebody else's business: MPI (jevrin/mpi/), or threads of one process in a test.
#pragma once

#include "jevrin/training/shard_link.hpp"

#include <chrono>
#include <memory>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

// The messages of one job as bytes. Functions may be called by several threads; they throw WorkError when the
// connection is lost.
class Ranks {
  public:
    virtual ~Ranks() = default;

    virtual int rank() const = 0;
    virtual int size() const = 0;
    virtual int on_this_machine() const = 0;  // so many of them, this one counted

    struct Bytes {
        int from = 0;
        std::string bytes;
    };
    // Messages between two ranks arrive in the order in which they were sent.
    virtual void send(int to, std::string bytes) = 0;
    // The next that arrived; nothing when none comes for so long.
    virtual std::optional<Bytes> receive(std::chrono::milliseconds wait) = 0;
    // The ranks that train one run together: as many as stated, with numbers that follow each other. Called
    // once, by every rank, with the same number; size() must be a multiple of it.
    virtual std::unique_ptr<ShardLink> divide(int ranks_of_run) = 0;
    // Ends all processes of the job, this one too where that is how a job ends: when a rank cannot be
    // reached.
    virtual void abandon() noexcept = 0;
};

}  // namespace jevrin::inline v1
