// Counter-based random numbers: every draw is a pure function of its purpose.
//
// A stream is named by (seed, purpose, epoch, item); its draws are counted from zero. No state is shared, so
// the order in which threads ask can never change what they get.
//
//     RandomStream stream{{.seed = 3, .purpose = Purpose::augmentation, .epoch = 7, .item = 41}};
//     double shift = stream.uniform(-0.1, 0.1);
//
// The generator is Philox 4x32-10 (Salmon et al. 2011).
#pragma once

#include <array>
#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// What a draw is for. The values are part of the recorded behaviour: add at the end, never renumber.
enum class Purpose : std::uint32_t {
    split = 1,
    order = 2,
    augmentation = 3,
    weights = 4,
    dropout = 5,
    demo = 6,
    bootstrap = 7,
    sample = 8,
    noise = 9,
    mixing = 10,
    balanced_items = 11,
    balanced_classes = 12,
    training_share = 13,
    plan_sample = 14,
    halves = 15,
    bootstrap_part = 16,
};

struct RandomKey {
    std::uint64_t seed = 0;
    Purpose purpose = Purpose::sample;
    std::uint32_t epoch = 0;
    std::uint64_t item = 0;
};

class RandomStream {
  public:
    explicit RandomStream(const RandomKey& key);

    // 32 uniform bits.
    std::uint32_t bits();
    // 64 uniform bits.
    std::uint64_t bits64();
    // Uniform in [0, 1) with 24 bits, exact in float.
    double uniform();
    // Uniform in [low, high).
    double uniform(double low, double high);
    // Uniform integer in [0, bound); bound must be positive.
    std::uint32_t below(std::uint32_t bound);
    // Normal with mean 0 and deviation 1 (Box and Muller 1958).
    double normal();

  private:
    std::array<std::uint32_t, 2> key_;
    std::array<std::uint32_t, 4> counter_;
    std::array<std::uint32_t, 4> block_{};
    int used_ = 4;
};

// The numbers 0..count-1 in an order drawn from (seed, purpose, epoch).
std::vector<std::int64_t> random_order(std::int64_t count, std::uint64_t seed, Purpose purpose,
                                       std::uint32_t epoch);

}  // namespace jevrin::inline v1
