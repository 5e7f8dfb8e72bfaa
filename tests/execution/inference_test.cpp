#include "jevrin/execution/inference.hpp"

#include "graph/small_network.hpp"

#include <cmath>
#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::outputs_of;
using test::random_tensor;
using test::small_network;

TEST(Inference, AnItemGetsTheSameBitsInEveryBatch) {
    const Network network = small_network();
    const Tensor input = random_tensor({5, 192}, 2);
    const std::vector<float> all = outputs_of(network, 5, input);
    for (std::int64_t n = 0; n < 5; ++n) {
        const std::vector<float> one = outputs_of(
            network, 1, Tensor({192}, input.values().subspan(static_cast<std::size_t>(n) * 192, 192)));
        EXPECT_EQ(std::memcmp(one.data(), all.data() + n * 3, 3 * sizeof(float)), 0);
    }
}

TEST(Softmax, SumsToOneEvenForLargeLogits) {
    const std::vector<float> logits = {1000, 1001, -5000};
    std::vector<float> p(3);
    class_probabilities(1, 3, logits, p);
    EXPECT_NEAR(p[1], 1 / (1 + std::exp(-1.0)), 1e-6);
    EXPECT_NEAR(p[0] + p[1] + p[2], 1.0, 1e-6);
}

}  // namespace
}  // namespace jevrin
