// A rank of a job that trains the runs which rank 0 gives it.
//
//     if (ranks.rank() > 0) help_train(ranks, {.ledger = "ledger"});
#pragma once

#include "jevrin/study/ranks.hpp"

#include <filesystem>
#include <functional>
#include <string>

namespace jevrin::inline v1 {

struct HelpOptions {
    // The directory whose stores this machine reads and fills; it need not be that of rank 0, and holds no
    // ledger here.
    std::filesystem::path ledger;
    std::function<bool()> stop_requested = {};
    double patience = 60.0;     // seconds without a sign of rank 0, after which it counts as lost
    ShardLink* team = nullptr;  // the ranks that train each run together with this one
};

// Trains what rank 0 gives, until it has no more, sends all home, or this rank cannot go on, which rank 0 is
// told. Asked to stop, here or by rank 0, it saves what it trains and leaves it to others. WorkError when
// rank 0 is lost: then the job is to be abandoned.
void help_train(Ranks& ranks, const HelpOptions& options);

// Rank 0 tells the others that there is nothing to train, before it was asked for runs.
void send_home(Ranks& ranks);

// What ranks hold against each other: the same bits are promised for one build on one kind of processor.
struct RankGreeting {
    std::string host;
    std::string version;
    std::string build;  // a hash of the program
    std::string processor;
};
RankGreeting rank_greeting();

}  // namespace jevrin::inline v1
