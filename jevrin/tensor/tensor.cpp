#include "jevrin/tensor/tensor.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sys/mman.h>

#include <algorithm>
#include <cassert>
#include <memory>
#include <new>

namespace jevrin::inline v1 {

namespace {

constexpr std::align_val_t line{64};  // of the cache

// Huge pages for what covers some, where the system has them to give: fewer misses of address translation.
// Pages that the block covers in part stay as they are, so that no more memory is used than asked for.
void ask_for_huge_pages(void* memory, std::size_t bytes) {
#ifdef MADV_HUGEPAGE
    constexpr std::size_t huge_page = 2 << 20;
    void* begin = memory;
    std::size_t room = bytes;
    if (std::align(huge_page, huge_page, begin, room) != nullptr)
        static_cast<void>(madvise(begin, room / huge_page * huge_page, MADV_HUGEPAGE));
#else
    static_cast<void>(memory);
    static_cast<void>(bytes);
#endif
}

}  // namespace

float* allocate_floats(std::int64_t count) {
    const std::size_t bytes = static_cast<std::size_t>(count) * sizeof(float);
    void* memory = ::operator new(bytes, line);
    ask_for_huge_pages(memory, bytes);
    return static_cast<float*>(memory);
}

void release_floats(float* memory) {
    ::operator delete(memory, line);
}

std::int64_t element_count(const Shape& shape) {
    std::int64_t count = 1;
    for (const std::int64_t dimension : shape) count *= dimension;
    return count;
}

std::string to_string(const Shape& shape) {
    return fmt::format("{}", fmt::join(shape, "x"));
}

void Tensor::Release::operator()(float* memory) const {
    release_floats(memory);
}

Tensor::Tensor(Shape shape)
    : shape_(std::move(shape)), size_(element_count(shape_)), data_(allocate_floats(size_)) {
    fill(0.0F);
}

Tensor::Tensor(Shape shape, std::span<const float> values)
    : shape_(std::move(shape)), size_(element_count(shape_)), data_(allocate_floats(size_)) {
    assert(static_cast<std::size_t>(size_) == values.size());
    std::copy(values.begin(), values.end(), data_.get());
}

Tensor::Tensor(Shape shape, Tensor&& from)
    : shape_(std::move(shape)), size_(from.size_), data_(std::move(from.data_)) {
    assert(element_count(shape_) == size_);
    from.shape_.clear();
    from.size_ = 0;
}

Tensor::Tensor(const Tensor& other) : shape_(other.shape_), size_(other.size_) {
    if (!other.data_) return;
    data_.reset(allocate_floats(size_));
    std::copy_n(other.data_.get(), size_, data_.get());
}

Tensor& Tensor::operator=(const Tensor& other) {
    if (this == &other) return *this;
    if (size_ == other.size_ && data_ && other.data_) {
        shape_ = other.shape_;
        std::copy_n(other.data_.get(), size_, data_.get());
    } else {
        *this = Tensor(other);
    }
    return *this;
}

void Tensor::fill(float value) {
    std::fill_n(data_.get(), size_, value);
}

}  // namespace jevrin::inline v1
