// Arrays of numbers in files: IDX and NPY, read row by row.
#pragma once

#include "jevrin/base/files.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/image.hpp"

#include <cstdint>
#include <filesystem>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class NumberType { uint8, int8, uint16, int16, uint32, int32, uint64, int64, float32, float64 };

// The shape and type of an array whose numbers begin `offset` bytes into a file.
struct ArrayLayout {
    NumberType type = NumberType::uint8;
    bool big_endian = false;
    bool first_index_fastest = false;  // NPY's fortran_order
    std::vector<std::int64_t> shape;
    std::size_t offset = 0;
};

bool is_number_array(std::span<const std::byte> bytes);

// A header is at most so long.
inline constexpr std::size_t largest_array_header = std::size_t{1} << 20;

// Reads the header alone. InputError without a file name when it is none, or is damaged.
ArrayLayout read_header(std::span<const std::byte> beginning);
// Bytes of the numbers behind the header. InputError when the shape is none.
std::size_t stated_bytes(const ArrayLayout& layout);
// InputError when a file of this size holds fewer or more.
void require_stated_bytes(const ArrayLayout& layout, std::size_t file_size);

// Reads the header from the beginning of a file of this size. IDX: four bytes 0, 0, type, dimensions, then
// the dimensions, all big-endian. NPY: versions 1 to 3. InputError without a file name when it is neither, is
// damaged, or holds fewer or more bytes than it says.
ArrayLayout read_layout(std::span<const std::byte> beginning, std::size_t file_size);

// Rows of an array in memory.
class NumberRows {
  public:
    NumberRows(NumberType type, bool big_endian, std::vector<std::byte> bytes)
        : type_(type), big_endian_(big_endian), bytes_(std::move(bytes)) {}
    // The number at a place behind the first row's beginning, in the order of C: the last index is the
    // fastest.
    double at(std::int64_t index) const;

  private:
    NumberType type_;
    bool big_endian_;
    std::vector<std::byte> bytes_;
};

class NumberArray {
  public:
    // An IDX or NPY file, one in gzip, or a member of an archive ("digits.npz/x_train"). InputError names the
    // file.
    explicit NumberArray(const std::filesystem::path& path);

    const std::vector<std::int64_t>& shape() const { return layout_.shape; }
    NumberType type() const { return layout_.type; }
    // The product of the dimensions after the first.
    std::int64_t row_size() const;
    // Rows from the first one on. InputError when the file became shorter. May be called from several
    // threads.
    NumberRows rows(std::int64_t first, std::int64_t count) const;

  private:
    std::shared_ptr<const InputFile> file_;
    ArrayLayout layout_;
    std::vector<std::byte>
        whole_;  // the numbers in the order of C, when the file's order is another or it is packed
};

// Images in an array of bytes, of 16 bits, or of floats: [count, height, width], with channels (1 or 3) first
// or last, or flat rows with a stated shape.
class ImageArray {
  public:
    // shape and transposed as in ImageSource. InputError names the file and what the shape would have to be.
    ImageArray(const std::filesystem::path& path, const std::vector<std::int64_t>& shape, bool transposed);

    std::int64_t count() const { return array_.shape().front(); }
    std::int64_t width() const { return transposed_ ? height_ : width_; }
    std::int64_t height() const { return transposed_ ? width_ : height_; }
    int channels() const { return channels_; }
    // Floats from 0 to 1 are multiplied by 255; values of 16 bits become bytes by the range. InputError when
    // a value is not a number.
    Image image(std::int64_t index, const ValueRange& range = {}) const;
    bool is_wide() const { return array_.type() == NumberType::uint16; }

  private:
    void set_shape(std::vector<std::int64_t> shape);

    std::string name_;
    NumberArray array_;
    bool transposed_;
    std::int64_t width_ = 0;
    std::int64_t height_ = 0;
    int channels_ = 1;
    bool channels_first_ = false;
    double factor_ = 1.0;
};

// Whole numbers [count], or one-hot rows [count, classes] as the place of the one. InputError names the file
// and the row.
struct LabelArray {
    std::vector<std::int64_t> labels;
    std::int64_t columns = 0;  // of one-hot rows; 0: integers
};
LabelArray read_labels(const std::filesystem::path& path);

}  // namespace jevrin::inline v1
