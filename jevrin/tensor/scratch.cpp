#include "jevrin/tensor/scratch.hpp"

#include "jevrin/tensor/tensor.hpp"

#include <array>

namespace jevrin {

float* scratch(std::int64_t count, int slot) {
    thread_local std::array<Tensor, 4> blocks;
    Tensor& block = blocks.at(static_cast<std::size_t>(slot));
    if (block.size() < count) block = Tensor({count});
    return block.data();
}

}  // namespace jevrin
