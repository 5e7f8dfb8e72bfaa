#include "jevrin/tensor/dropout.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/tensor/element_loop.hpp"

namespace jevrin::inline v1 {
namespace {

float scale_of(double rate) {
    return static_cast<float>(1.0 / (1.0 - rate));
}

}  // namespace

void dropout(const DropoutDraw& draw, std::int64_t batch, std::int64_t item_size, const float* input,
             float* output, std::uint8_t* kept) {
    const float scale = scale_of(draw.rate);
    parallel_for(batch, [&](std::int64_t n) {
        RandomStream stream({draw.seed, Purpose::dropout, draw.epoch,
                             static_cast<std::uint64_t>(draw.items[n]) | (std::uint64_t{draw.layer} << 40)});
        for (std::int64_t i = n * item_size; i < (n + 1) * item_size; ++i) {
            kept[i] = stream.uniform() < draw.rate ? 0 : 1;
            output[i] = input[i] * (kept[i] != 0 ? scale : 0.0F);
        }
    });
}

void dropout_backward(double rate, std::int64_t count, const std::uint8_t* kept, const float* output_gradient,
                      bool accumulate, float* input_gradient) {
    const float scale = scale_of(rate);
    assign_elements(count, accumulate, input_gradient,
                    [=](std::int64_t i) { return output_gradient[i] * (kept[i] != 0 ? scale : 0.0F); });
}

}  // namespace jevrin::inline v1
