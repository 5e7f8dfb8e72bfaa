// Working memory of kernels, leased for the length of one call or one chunk of a loop, so that a repeated
// step allocates nothing.
//
//     const Scratch padded(height * width * channels);
//     pad(image, padded.data());
#pragma once

#include <cstddef>
#include <cstdint>

namespace jevrin::inline v1 {

class Scratch {
  public:
    // Leases at least count floats, 64-byte aligned, with undefined content; nothing for a count of 0.
    explicit Scratch(std::int64_t count);
    ~Scratch();
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;

    float* data() const { return data_; }

  private:
    float* data_ = nullptr;
    std::int64_t size_ = 0;
};

// Makes sure that this many leases of this size can be held at once without an allocation.
void reserve_scratch(std::int64_t count, std::size_t leases);

}  // namespace jevrin::inline v1
