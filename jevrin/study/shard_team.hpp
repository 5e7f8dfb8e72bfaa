// The ranks of a job that train each of their runs together, as shards of every batch. One of them, the
// leader, has the run: it asks for it, records it and stops it. The others follow: they make the same calls
// and keep nothing.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/study/run_keeper.hpp"
#include "jevrin/training/shard_link.hpp"

#include <optional>
#include <string>

namespace jevrin::inline v1 {

struct PlannedRun;

class ShardTeam {
  public:
    // Rank 0 of the link leads.
    explicit ShardTeam(ShardLink& link) : link_(link) {}

    bool leads() const { return link_.rank() == 0; }
    ShardLink& link() { return link_; }

    // For the leader: the others train this run now, by a keeper that follows; or there is none any more.
    void begin(const PlannedRun& run);
    void end();
    // For the others: the name and identity of the next run; nothing when there is none any more.
    struct Run {
        std::string name;
        std::string identity;
    };
    std::optional<Run> next();

    // What the leader says, on all.
    std::string told(const std::string& by_leader = "");

  private:
    ShardLink& link_;
};

// When its scope ends, so do the runs of the team.
struct TeamEnd {
    ShardTeam* team = nullptr;
    ~TeamEnd() {
        try {
            if (team != nullptr) team->end();
        } catch (const Error&) {
            // Nobody is there to hear it.
        }
    }
};

// Of the leader: keeps a run by another keeper, and tells the team what came of it.
class LeadingKeeper : public RunKeeper {
  public:
    LeadingKeeper(RunKeeper& keeper, ShardTeam& team) : keeper_(keeper), team_(team) {}

    RunPast past() override;
    RunRecord forget_epochs() override { return keeper_.forget_epochs(); }
    void begin(const std::string& plan, const std::string& environment) override {
        keeper_.begin(plan, environment);
    }
    void save(TrainingState state) override { keeper_.save(std::move(state)); }
    bool finish_epoch(TrainingState state, const EpochNote& note) override;
    bool agree(bool mine) override;
    std::filesystem::path model_file(std::int64_t epoch = 0) override { return keeper_.model_file(epoch); }
    void put_epoch_model(std::int64_t epoch) override { keeper_.put_epoch_model(epoch); }
    void finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) override {
        keeper_.finish(validation, cost);
    }

  private:
    RunKeeper& keeper_;
    ShardTeam& team_;
};

// Of the others.
class FollowingKeeper : public RunKeeper {
  public:
    explicit FollowingKeeper(ShardTeam& team) : team_(team) {}

    RunPast past() override;
    RunRecord forget_epochs() override;
    void begin(const std::string&, const std::string&) override {}
    void save(TrainingState) override {}
    bool finish_epoch(TrainingState state, const EpochNote& note) override;
    bool agree(bool mine) override;
    bool keeps() const override { return false; }
    std::filesystem::path model_file(std::int64_t) override { return {}; }
    void put_epoch_model(std::int64_t) override {}
    void finish(const std::vector<PredictionRecord>&, const PredictionCost&) override {}

  private:
    ShardTeam& team_;
    RunRecord record_;
};

}  // namespace jevrin::inline v1
