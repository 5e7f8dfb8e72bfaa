// A file descriptor that is closed at the end of its scope.
#pragma once

#include <utility>

namespace jevrin::inline v1 {

class Descriptor {
  public:
    explicit Descriptor(int value = -1) : value_(value) {}
    ~Descriptor() { close(); }
    Descriptor(Descriptor&& other) noexcept : value_(std::exchange(other.value_, -1)) {}
    Descriptor& operator=(Descriptor&& other) noexcept {
        std::swap(value_, other.value_);
        return *this;
    }

    int get() const { return value_; }
    bool is_open() const { return value_ >= 0; }
    void close();

  private:
    int value_;
};

}  // namespace jevrin::inline v1
