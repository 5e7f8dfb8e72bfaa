// A run in training whose records and files are kept by rank 0 of the job.
#pragma once

#include "jevrin/base/files.hpp"
#include "jevrin/study/rank_client.hpp"
#include "jevrin/study/run_keeper.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

// What distinguishes a run's messages, and how its record travels.
Json record_json(const RunRecord& record);
RunRecord record_from(const Json& json);
Json past_json(const RunPast& past);
RunPast past_from(const RankMessage& message);

class RankRunKeeper : public RunKeeper {
  public:
    // Of the run that this thread of the rank was given. Model files are written into scratch before they are
    // sent.
    RankRunKeeper(RankClient& client, int thread, std::filesystem::path scratch)
        : client_(client), thread_(thread), scratch_(std::move(scratch)) {}

    RunPast past() override;
    RunRecord forget_epochs() override;
    void begin(const std::string& plan, const std::string& environment) override;
    void save(TrainingState state) override;
    bool finish_epoch(TrainingState state, const EpochNote& note) override;
    std::filesystem::path model_file(std::int64_t epoch = 0) override;
    void put_epoch_model(std::int64_t epoch) override;
    void finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) override;

  private:
    Json head(const char* what) const { return {{"do", what}, {"thread", thread_}}; }
    void send_model(std::int64_t epoch);

    RankClient& client_;
    int thread_;
    std::filesystem::path scratch_;
    std::string owner_;
};

}  // namespace jevrin::inline v1
