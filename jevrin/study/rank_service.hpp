// Rank 0 of a job at work for the others: it gives out runs, keeps what they record in the ledger, and sends
// what their machines lack.
#pragma once

#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/ledger_run_keeper.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/study_reporter.hpp"
#include "jevrin/study/study_runs.hpp"

#include <chrono>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class RankService {
  public:
    // Everything given must outlive this.
    RankService(Ranks& ranks, const Materials& materials, const StudyOptions& options, LedgerWriter& writer,
                StudyRuns& runs, StudyReporter& reporter);

    // Answers what has arrived. Whether a rank is still to be waited for. WorkError when one has been silent
    // for too long, or what it sent cannot be written.
    bool turn();
    // The others save what they train and end.
    void ask_to_stop();
    // After an error here: the others save and end. When they do not, it is told why, and the job is ended.
    void dismiss(const std::string& why) noexcept;

  private:
    // A run that another rank trains.
    struct Entrusted {
        ClaimedRun taken;
        std::vector<std::size_t> validated;  // items
        LedgerRunKeeper keeper;
        Entrusted(LedgerWriter& writer, ClaimedRun run, const Materials& materials,
                  const PlannedRun& planned);
    };
    struct Rank {
        std::string host = {};
        double silent = 0.0;  // seconds
        bool ended = false;
    };

    void answer(const RankMessage& message);
    void reply(const RankMessage& message, Json head, std::string_view body = {});
    void greet(const RankMessage& message);
    std::string supplies(const std::string& what, const Json& head) const;
    void end(int rank);
    void give_runs();
    struct Answer {
        Json head = Json::object();
        std::string body = {};
    };
    Answer kept(Entrusted& run, const std::string& what, const RankMessage& message);
    void keep_epochs();
    void finish(Entrusted& run, const RankMessage& message);
    void release(RunWorker worker);
    void warn_once(const std::string& message);
    std::string called(int rank) const;
    void watch_for_silence();

    Ranks& ranks_;
    const Materials& materials_;
    LedgerWriter& writer_;
    StudyRuns& runs_;
    StudyReporter& reporter_;
    double patience_;
    bool is_shared_;  // ranks train runs together
    bool mixed_;      // and may be of several kinds
    std::string brief_;
    std::map<int, Rank> others_;
    std::map<RunWorker, std::unique_ptr<Entrusted>> entrusted_;
    std::map<RunWorker, RankMessage> waiting_;  // for a run
    std::vector<RankMessage> epochs_;           // that are not kept yet
    std::ptrdiff_t epochs_bytes_ = 0;
    std::set<std::string> said_;  // warnings
    bool stopping_ = false;
    std::chrono::steady_clock::time_point looked_;
};

}  // namespace jevrin::inline v1
