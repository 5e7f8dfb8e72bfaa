// Depthwise convolution: each channel by itself, with a weight [kernel_height, kernel_width, channels]. Its
// arithmetic is so little that memory sets its pace, so it runs along rows with no copy of the image.
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/channel_sums.hpp"
#include "jevrin/tensor/convolution_shape.hpp"
#include "jevrin/tensor/kinds.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

class DepthwiseKernel {
  public:
    DepthwiseKernel() = default;
    // in_channels, out_channels and groups must be equal.
    explicit DepthwiseKernel(const ConvolutionShape& shape);

    // bias [channels] may be null, and so may the statistics of the output.
    void forward(std::int64_t batch, const float* input, const float* weight, const float* bias,
                 const Function& activation, float* output, BatchStatistics* statistics = nullptr) const;
    // One output row of an image, on the calling thread; source holds its rows from first_row on, those of
    // source_rows() among them.
    void forward_row(std::int64_t row, std::int64_t first_row, const float* source, const float* weight,
                     const float* bias, const Function& activation, float* output) const;
    // The smallest range that has all source rows of an output row; empty where it reads none.
    IndexRange source_rows(std::int64_t row) const;
    // input_gradient (+)= ...
    void data_gradient(std::int64_t batch, const float* output_gradient, const float* weight, bool accumulate,
                       float* input_gradient) const;
    // weight_gradient is replaced by the sum over the batch.
    void weight_gradient(std::int64_t batch, const float* input, const float* output_gradient,
                         float* weight_gradient) const;

    std::int64_t scratch_size() const;

  private:
    // The kernel places that join a place of one image with places of another, along one axis.
    struct Link {
        std::int64_t kernel = 0;
        std::int64_t source = 0;
    };
    using Links = std::vector<std::vector<Link>>;
    // Neighbouring places that are computed together, with sources a step apart.
    struct Group {
        std::int64_t first = 0;
        std::int64_t places = 1;
        std::int64_t step = 0;
    };
    static constexpr std::int64_t group_places = 4;
    struct Axis {
        Links links;  // of each place
        std::vector<Group> groups;
    };
    struct Size {
        std::int64_t height = 0;
        std::int64_t width = 0;
    };

    static Axis grouped(Links links);
    template <typename Finish>
    void sum_links(std::int64_t batch, Size source_size, const float* source, const Axis& rows,
                   const Axis& columns, const float* weight, bool accumulate, float* target,
                   const Finish& finish) const;
    // Source rows lie width pixels apart, from first_row on.
    struct Source {
        const float* rows = nullptr;
        std::int64_t first_row = 0;
        std::int64_t width = 0;
    };
    void sum_row(const Source& source, const std::vector<Link>& row_links, const Axis& columns,
                 const float* weight, bool accumulate, float* target) const;

    template <int columns>
    void add_row(const float* pixels, const float* gradients, std::int64_t first, float* sums) const;

    ConvolutionShape shape_;
    Axis forward_rows_;  // for each output row, input rows
    Axis forward_columns_;
    Axis backward_rows_;  // for each input row, output rows
    Axis backward_columns_;
};

}  // namespace jevrin::inline v1
