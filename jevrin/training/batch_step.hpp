// The forward and backward pass of a step over one batch: as a whole, or shard by shard.
#pragma once

#include "jevrin/base/class_counts.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/images/augmentation.hpp"
#include "jevrin/training/gradient_exchange.hpp"
#include "jevrin/training/shard_link.hpp"
#include "jevrin/training/training_settings.hpp"

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// The part of a batch that this process computes.
struct BatchInput {
    std::span<const std::int64_t> items;
    std::span<const float> numbers;  // [items, ...], as the network takes them
    std::vector<Target> targets;
};

// Sums over a batch.
struct BatchSums {
    double loss = 0.0;
    double objective = 0.0;
    ClassCounts counts;
    bool stop = false;  // some rank asked to stop behind this step
};

class BatchStep {
  public:
    // pass is that of the network, for items_at_once(). With a link the ranks compute the shards together:
    // all of them make the same calls. Everything given must outlive this.
    BatchStep(Network& network, TrainingPass& pass, const TrainingSettings& settings, std::size_t classes,
              std::int64_t batch, ShardLink* link);
    ~BatchStep();
    BatchStep(const BatchStep&) = delete;
    BatchStep& operator=(const BatchStep&) = delete;

    // The gradients of all parameters of the pass, and the sums; running statistics move. items: of the whole
    // batch. stop: this process wants to stop behind the step; all learn of it. observer sees each shard.
    BatchSums run(const BatchInput& input, std::int64_t items, std::uint64_t seed, std::uint32_t epoch,
                  const ValueObserver& observer, bool stop);

  private:
    class LocalSums;
    struct Shard {
        std::int64_t begin = 0;  // items within the input
        std::int64_t end = 0;
        std::vector<float> gradient;  // of the logits
        std::vector<std::size_t> predicted;
        std::vector<double> sums;  // numbers() of them
        std::vector<double> statistics;
    };
    using Ready = std::function<void(std::size_t parameter)>;

    void run_shard(TrainingPass& pass, Shard& shard, ShardSums* sums, const Ready& ready);
    void run_in_turn(std::int64_t begin, std::int64_t end, std::size_t depth, const Ready& ready);
    void run_together(const Ready& ready);
    void keep(std::size_t depth);
    void add_kept(std::size_t depth, std::size_t parameter);
    BatchSums finish(bool stop);

    TrainingPass& pass_;
    const TrainingSettings& settings_;
    std::size_t classes_;
    ShardLink* link_;
    ShardRange range_;                                   // of shards that this process computes
    std::vector<std::unique_ptr<TrainingPass>> passes_;  // of all of them but the first, computed together
    std::vector<Shard> shards_;
    std::vector<std::vector<std::vector<float>>> kept_;  // gradients of finished branches, by depth
    std::unique_ptr<GradientExchange> exchange_;
    std::vector<double> space_;
    // Of the step in work.
    const BatchInput* input_ = nullptr;
    std::int64_t items_ = 0;
    std::uint64_t seed_ = 0;
    std::uint32_t epoch_ = 0;
    const ValueObserver* observer_ = nullptr;
};

}  // namespace jevrin::inline v1
