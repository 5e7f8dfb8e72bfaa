// A depthwise convolution with a 1x1 convolution before it (the expansion), behind it (the projection), or
// both (Howard 2017, Sandler 2018), for inference. An image is computed in strips of rows that stay in the
// cache: what lies between the convolutions is never written to memory. A row has the same bits in any strip.
#pragma once

#include "jevrin/tensor/depthwise.hpp"
#include "jevrin/tensor/tap_sum.hpp"

#include <algorithm>
#include <cstdint>

namespace jevrin::inline v1 {

struct SeparableShape {
    ConvolutionShape depthwise;
    std::int64_t in_channels = 0;   // of the expansion; 0 where there is none
    std::int64_t out_channels = 0;  // of the projection; 0 where there is none

    bool expands() const { return in_channels > 0; }
    bool projects() const { return out_channels > 0; }
    // What it reads and writes.
    std::int64_t input_channels() const { return expands() ? in_channels : depthwise.groups; }
    std::int64_t output_channels() const { return projects() ? out_channels : depthwise.groups; }
};

// One of the convolutions: those weights that are 1x1 in packed form.
struct SeparableTerm {
    const float* weight = nullptr;
    const float* bias = nullptr;  // may be null
    Function activation;
};

class SeparableKernel {
  public:
    // At least one of expansion and projection must be there.
    explicit SeparableKernel(const SeparableShape& shape, ProductForm form = ProductForm::fastest);

    // Whether strips gain: both weights must stay in the cache beside them.
    static bool serves(const SeparableShape& shape);

    // added [batch, out_height, out_width, channels] is added to the result; may be null.
    void forward(std::int64_t batch, const float* input, const SeparableTerm& expand,
                 const SeparableTerm& depthwise, const SeparableTerm& project, const float* added,
                 float* output) const;

    // The weight [in, out] itself where that is its packed form, otherwise a copy in packed [in * out].
    const float* pack_expansion(const float* weight, float* packed) const;
    const float* pack_projection(const float* weight, float* packed) const;

    // The largest lease of scratch that forward() takes.
    std::int64_t scratch_size() const;

  private:
    // A 1x1 convolution of some whole rows at a time: of so many, or of those that are left at the end.
    struct RowProduct {
        RowProduct() = default;
        RowProduct(std::int64_t height, std::int64_t width, std::int64_t rows, std::int64_t in,
                   std::int64_t out, ProductForm form);
        // The rows of one group, the first of them being a multiple of rows.
        void operator()(std::int64_t first_row, const float* source, const SeparableTerm& term,
                        float* output) const;
        std::int64_t end_of(std::int64_t first_row) const { return std::min(first_row + rows, height); }

        std::int64_t height = 0;
        std::int64_t rows = 0;
        TapSum full;
        TapSum last;
    };
    struct Call {
        const float* input = nullptr;
        const SeparableTerm& expand;
        const SeparableTerm& depthwise;
        const SeparableTerm& project;
        const float* added = nullptr;
        float* output = nullptr;
    };

    IndexRange strip_rows(std::int64_t strip) const;
    IndexRange source_rows(IndexRange rows) const;
    void compute_strips(const Call& call, IndexRange strips) const;

    SeparableShape shape_;
    DepthwiseKernel depthwise_;
    std::int64_t rows_per_strip_ = 1;
    std::int64_t strips_ = 1;
    std::int64_t buffer_rows_ = 0;  // expanded rows that a strip has at most
    RowProduct expand_;
    RowProduct project_;
};

}  // namespace jevrin::inline v1
