#include "jevrin/training/batch_step.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/threads.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/training/loss.hpp"

#include <algorithm>
#include <cmath>
#include <condition_variable>
#include <exception>
#include <mutex>
#include <thread>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr int sums_channel = 0;
constexpr int statistics_channel = 2;

// [rows, means, sums of squared distances from them] of two disjoint sets of rows: Chan et al. 1979.
void join_statistics(std::span<double> left, std::span<const double> right) {
    const std::size_t channels = (left.size() - 1) / 2;
    const double rows = left[0] + right[0];
    if (right[0] == 0.0) return;
    const double share = right[0] / rows;
    for (std::size_t c = 0; c < channels; ++c) {
        double& mean = left[1 + c];
        double& squares = left[1 + channels + c];
        const double distance = right[1 + c] - mean;
        squares += right[1 + channels + c] + distance * distance * left[0] * share;
        mean += distance * share;
    }
    left[0] = rows;
}

}  // namespace

// The shards of this process compute at the same time and meet where they need each other's sums: the last to
// come joins them along the tree, with those of other ranks, and lets the others go.
class BatchStep::LocalSums {
  public:
    LocalSums(std::size_t shards, ShardLink* link) : values_(shards), link_(link) {}

    // One for each shard.
    class OfShard : public ShardSums {
      public:
        OfShard(LocalSums& all, std::size_t shard) : all_(all), shard_(shard) {}
        double combine(BatchStatistics& statistics, double rows) override {
            const std::size_t channels = statistics.mean.size();
            std::vector<double>& own = all_.values_[shard_];
            own.assign(1, rows);
            own.insert(own.end(), statistics.mean.begin(), statistics.mean.end());
            for (const double variance : statistics.variance) own.push_back(variance * rows);
            all_.meet(join_statistics);
            const std::vector<double>& sum = all_.values_.front();
            const double all_rows = sum[0];
            std::copy_n(sum.begin() + 1, channels, statistics.mean.begin());
            for (std::size_t c = 0; c < channels; ++c)
                statistics.variance[c] = std::max(0.0, sum[1 + channels + c] / all_rows);
            all_.part();
            return all_rows;
        }
        void add(std::span<double> sums) override {
            all_.values_[shard_].assign(sums.begin(), sums.end());
            all_.meet(add_values<double>);
            std::copy(all_.values_.front().begin(), all_.values_.front().end(), sums.begin());
            all_.part();
        }

      private:
        LocalSums& all_;
        std::size_t shard_;
    };

    // A shard failed: nobody waits for it.
    void fail() {
        const std::lock_guard lock(mutex_);
        failed_ = true;
        changed_.notify_all();
    }

  private:
    // Returns when all shards have come and their values are joined in the first.
    template <typename Join>
    void meet(const Join& join) {
        std::unique_lock lock(mutex_);
        const std::int64_t round = round_;
        if (++come_ == values_.size()) {
            join_shards(0, std::ssize(values_), [&](std::int64_t left, std::int64_t right) {
                join(std::span<double>(values_[static_cast<std::size_t>(left)]),
                     std::span<const double>(values_[static_cast<std::size_t>(right)]));
            });
            if (link_ != nullptr)
                join_ranks(*link_, statistics_channel, std::span<double>(values_.front()), space_, join);
            come_ = 0;
            ++round_;
            changed_.notify_all();
        }
        const WaitingLoops waiting;
        changed_.wait(lock, [&] { return failed_ || round_ != round; });
        if (failed_) throw WorkError("another shard of the batch failed");
    }
    // Returns when all have read.
    void part() {
        std::unique_lock lock(mutex_);
        const std::int64_t round = round_;
        if (++come_ == values_.size()) {
            come_ = 0;
            ++round_;
            changed_.notify_all();
        }
        changed_.wait(lock, [&] { return failed_ || round_ != round; });
    }

    std::vector<std::vector<double>> values_;  // by shard
    ShardLink* link_;
    std::vector<double> space_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::size_t come_ = 0;
    std::int64_t round_ = 0;
    bool failed_ = false;
};

BatchStep::BatchStep(Network& network, TrainingPass& pass, const TrainingSettings& settings,
                     std::size_t classes, std::int64_t batch, ShardLink* link)
    : pass_(pass),
      settings_(settings),
      classes_(classes),
      link_(link),
      range_(shards_of_rank(settings.shards, link == nullptr ? 0 : link->rank(),
                            link == nullptr ? 1 : link->size())),
      shards_(static_cast<std::size_t>(range_.end - range_.begin)) {
    const std::int64_t largest = (batch + settings.shards - 1) / settings.shards;
    if (settings.shard_statistics == ShardStatistics::batch && settings.shards > 1)
        for (std::size_t i = 1; i < shards_.size(); ++i)
            passes_.push_back(std::make_unique<TrainingPass>(network, largest, settings.activations));
    if (link != nullptr && link->size() > 1) exchange_ = std::make_unique<GradientExchange>(*link);
}

BatchStep::~BatchStep() = default;

BatchSums BatchStep::run(const BatchInput& input, std::int64_t items, std::uint64_t seed, std::uint32_t epoch,
                         const ValueObserver& observer, bool stop) {
    input_ = &input;
    items_ = items;
    seed_ = seed;
    epoch_ = epoch;
    observer_ = &observer;
    const std::int64_t first = items_of_shards(range_, settings_.shards, items).begin;
    for (std::size_t i = 0; i < shards_.size(); ++i) {
        const std::int64_t shard = range_.begin + static_cast<std::int64_t>(i);
        const ShardRange own = items_of_shards({shard, shard + 1}, settings_.shards, items);
        shards_[i].begin = own.begin - first;
        shards_[i].end = own.end - first;
    }
    const bool together = settings_.shards > 1 && settings_.shard_statistics == ShardStatistics::batch;
    Ready ready;
    if (exchange_) ready = [this](std::size_t parameter) { exchange_->ready(pass_.gradient(parameter)); };
    if (together)
        run_together(ready);
    else
        run_in_turn(0, std::ssize(shards_), 0, ready);
    if (exchange_) exchange_->finish();
    return finish(stop);
}

// Leaves the gradients in the pass, the sums and statistics in the shard.
void BatchStep::run_shard(TrainingPass& pass, Shard& shard, ShardSums* sums, const Ready& ready) {
    const std::int64_t count = shard.end - shard.begin;
    const auto begin = static_cast<std::size_t>(shard.begin);
    const std::span<const Target> targets =
        std::span<const Target>(input_->targets).subspan(begin, static_cast<std::size_t>(count));
    const std::size_t width = input_->items.empty() ? 0 : input_->numbers.size() / input_->items.size();
    const auto logits = pass.forward(count, input_->numbers.subspan(begin * width),
                                     {.seed = seed_,
                                      .epoch = epoch_,
                                      .items = input_->items.data() + shard.begin,
                                      .is_shard = settings_.shards > 1,
                                      .sums = sums},
                                     *observer_);
    shard.gradient.resize(static_cast<std::size_t>(count) * classes_);
    shard.predicted.resize(static_cast<std::size_t>(count));
    BatchLoss loss;
    if (count > 0)
        loss = cross_entropy(static_cast<std::int64_t>(classes_), logits, targets, shard.gradient,
                             settings_.loss, shard.predicted, items_);
    shard.sums.assign(2 + 3 * classes_, 0.0);
    shard.sums[0] = loss.loss_sum;
    shard.sums[1] = loss.objective_sum;
    for (std::size_t n = 0; n < shard.predicted.size(); ++n) {
        const std::size_t label = targets[n].label;
        shard.sums[2 + label] += 1.0;
        shard.sums[2 + classes_ + shard.predicted[n]] += 1.0;
        shard.sums[2 + 2 * classes_ + label] += shard.predicted[n] == label ? 1.0 : 0.0;
    }
    pass.backward(count, shard.gradient, ready);
    if (settings_.shards == 1) return;
    pass.copy_statistics(shard.statistics);
    // Weighted by its items, so that the sum over shards is a mean.
    const double weight = sums != nullptr ? 1.0 : static_cast<double>(count) / static_cast<double>(items_);
    for (double& value : shard.statistics) value *= weight;
}

// Shards of a branch after each other, on one pass; its gradients are then in the pass. ready is for the
// last.
void BatchStep::run_in_turn(std::int64_t begin, std::int64_t end, std::size_t depth, const Ready& ready) {
    if (end - begin == 1) return run_shard(pass_, shards_[static_cast<std::size_t>(begin)], nullptr, ready);
    const std::int64_t middle = (begin + end) / 2;
    run_in_turn(begin, middle, depth + 1, {});
    keep(depth);
    run_in_turn(middle, end, depth + 1, [&](std::size_t parameter) {
        add_kept(depth, parameter);
        if (ready) ready(parameter);
    });
}

void BatchStep::keep(std::size_t depth) {
    if (kept_.size() <= depth) kept_.resize(depth + 1);
    kept_[depth].resize(pass_.parameters().size());
    for (std::size_t p = 0; p < kept_[depth].size(); ++p) {
        const std::span<float> gradient = pass_.gradient(p);
        kept_[depth][p].assign(gradient.begin(), gradient.end());
    }
}

void BatchStep::add_kept(std::size_t depth, std::size_t parameter) {
    const std::span<float> right = pass_.gradient(parameter);
    const std::vector<float>& left = kept_[depth][parameter];
    for (std::size_t i = 0; i < right.size(); ++i) right[i] = left[i] + right[i];
}

// All shards at the same time, each a thread with a pass of its own.
void BatchStep::run_together(const Ready& ready) {
    LocalSums sums(shards_.size(), link_ != nullptr && link_->size() > 1 ? link_ : nullptr);
    LoopGroup group;
    std::mutex observing;
    const ValueObserver all = *observer_;
    const ValueObserver one = [&](std::size_t node, std::span<const float> values) {
        const std::lock_guard lock(observing);
        all(node, values);
    };
    if (all) observer_ = &one;
    std::exception_ptr failure;
    const auto work = [&](std::size_t i) {
        try {
            LocalSums::OfShard own(sums, i);
            run_shard(i == 0 ? pass_ : *passes_[i - 1], shards_[i], &own, {});
        } catch (...) {
            sums.fail();
            const std::lock_guard lock(observing);
            if (!failure) failure = std::current_exception();
        }
    };
    if (shards_.size() == 1) {
        LocalSums::OfShard own(sums, 0);
        return run_shard(pass_, shards_.front(), &own, ready);
    }
    {
        std::vector<std::thread> threads;
        for (std::size_t i = 0; i < shards_.size(); ++i)
            threads.emplace_back([&, i] {
                const SerialLoops loops(&group);
                work(i);
            });
        for (std::thread& thread : threads) thread.join();
    }
    if (failure) std::rethrow_exception(failure);
    const auto pass_of = [&](std::int64_t shard) -> TrainingPass& {
        return shard == 0 ? pass_ : *passes_[static_cast<std::size_t>(shard) - 1];
    };
    join_shards(0, std::ssize(shards_), [&](std::int64_t left, std::int64_t right) {
        for (std::size_t p = 0; p < pass_.parameters().size(); ++p)
            add_values<float>(pass_of(left).gradient(p), pass_of(right).gradient(p));
    });
    if (ready) std::ranges::for_each(pass_.ready_order(), ready);
}

// Joins what shards and ranks counted and measured, and moves the running statistics.
BatchSums BatchStep::finish(bool stop) {
    const bool moves = settings_.shards > 1;
    const bool per_shard = settings_.shard_statistics == ShardStatistics::shard;
    for (Shard& shard : shards_) {
        shard.sums.push_back(0.0);
        if (moves && per_shard)
            shard.sums.insert(shard.sums.end(), shard.statistics.begin(), shard.statistics.end());
    }
    std::vector<double>& sums = shards_.front().sums;
    sums[2 + 3 * classes_] = stop ? 1.0 : 0.0;
    join_shards(0, std::ssize(shards_), [&](std::int64_t left, std::int64_t right) {
        add_values<double>(shards_[static_cast<std::size_t>(left)].sums,
                           std::span<const double>(shards_[static_cast<std::size_t>(right)].sums));
    });
    if (link_ != nullptr)
        join_ranks(*link_, sums_channel, std::span<double>(sums), space_, add_values<double>);
    if (moves)
        pass_.move_statistics(per_shard ? std::span<const double>(sums).subspan(3 + 3 * classes_)
                                        : std::span<const double>(shards_.front().statistics));
    BatchSums result{.loss = sums[0],
                     .objective = sums[1],
                     .counts = ClassCounts::of_classes(classes_),
                     .stop = sums[2 + 3 * classes_] > 0.0};
    for (std::size_t c = 0; c < classes_; ++c) {
        result.counts.labelled[c] = std::llround(sums[2 + c]);
        result.counts.predicted[c] = std::llround(sums[2 + classes_ + c]);
        result.counts.correct[c] = std::llround(sums[2 + 2 * classes_ + c]);
    }
    return result;
}

}  // namespace jevrin::inline v1
