// Kernel shapes (tensor/) from an operator and its input.
#pragma once

#include "jevrin/graph/graph.hpp"
#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/pooling.hpp"
#include "jevrin/tensor/separable.hpp"

namespace jevrin::inline v1 {

// image is [height, width, channels]; node is a convolution.
ConvolutionShape convolution_shape(const Node& node, const Shape& image);
// Likewise; node is a separable convolution.
SeparableShape separable_shape(const Node& node, const Shape& image);
PoolingShape pooling_shape(const operators::Window& window, const Shape& image, bool count_padding);

}  // namespace jevrin::inline v1
