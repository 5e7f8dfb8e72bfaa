// Tensor: a dense block of float32 numbers with a shape.
//
// The last dimension varies fastest. Images lie channels-last, [batch, height, width, channels]; the memory
// begins at a 64-byte boundary. A Tensor is a value: copies are deep, moves are cheap.
//
//     Tensor images({32, 64, 64, 3});
//     images.values()[0] = 1.0F;
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

using Shape = std::vector<std::int64_t>;

// The product of the dimensions; 1 for an empty shape.
std::int64_t element_count(const Shape& shape);

// "64x64x3".
std::string to_string(const Shape& shape);

// Memory for count floats at a 64-byte boundary, with undefined content; throws std::bad_alloc.
float* allocate_floats(std::int64_t count);
// Null is fine.
void release_floats(float* memory);

class Tensor {
  public:
    Tensor() = default;
    // All zeros.
    explicit Tensor(Shape shape);
    // From values in memory order; their number must match the shape.
    Tensor(Shape shape, std::span<const float> values);
    // The numbers of another tensor under a shape with as many elements.
    Tensor(Shape shape, Tensor&& from);

    Tensor(const Tensor& other);
    Tensor& operator=(const Tensor& other);
    Tensor(Tensor&&) noexcept = default;
    Tensor& operator=(Tensor&&) noexcept = default;
    ~Tensor() = default;

    const Shape& shape() const { return shape_; }
    std::int64_t size() const { return size_; }
    bool empty() const { return size_ == 0; }

    float* data() { return data_.get(); }
    const float* data() const { return data_.get(); }
    std::span<float> values() { return {data_.get(), static_cast<std::size_t>(size_)}; }
    std::span<const float> values() const { return {data_.get(), static_cast<std::size_t>(size_)}; }

    void fill(float value);

  private:
    struct Release {
        void operator()(float* memory) const;
    };

    Shape shape_;
    std::int64_t size_ = 0;
    std::unique_ptr<float[], Release> data_;
};

}  // namespace jevrin::inline v1
