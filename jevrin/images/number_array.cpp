#include "jevrin/images/number_array.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/packed_arrays.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cassert>
#include <charconv>
#include <cmath>
#include <cstring>
#include <limits>
#include <optional>
#include <string_view>

namespace jevrin::inline v1 {
namespace {

constexpr std::string_view npy_mark = "\x93NUMPY";
constexpr std::int64_t largest_image_side = 16'384;

std::size_t width_of(NumberType type) {
    constexpr std::size_t widths[] = {1, 1, 2, 2, 4, 4, 8, 8, 4, 8};
    return widths[static_cast<std::size_t>(type)];
}

std::size_t big_endian_number(std::span<const std::byte> bytes, std::size_t at) {
    std::size_t value = 0;
    for (std::size_t i = 0; i < 4; ++i) value = value << 8 | std::to_integer<std::size_t>(bytes[at + i]);
    return value;
}

ArrayLayout read_idx(std::span<const std::byte> bytes) {
    ArrayLayout layout{.big_endian = true};
    switch (std::to_integer<int>(bytes[2])) {
        case 0x08:
            layout.type = NumberType::uint8;
            break;
        case 0x09:
            layout.type = NumberType::int8;
            break;
        case 0x0B:
            layout.type = NumberType::int16;
            break;
        case 0x0C:
            layout.type = NumberType::int32;
            break;
        case 0x0D:
            layout.type = NumberType::float32;
            break;
        case 0x0E:
            layout.type = NumberType::float64;
            break;
        default:
            throw InputError("it is a damaged IDX array (its type is unknown)");
    }
    const auto dimensions = std::to_integer<std::size_t>(bytes[3]);
    layout.offset = 4 + 4 * dimensions;
    if (bytes.size() < layout.offset) throw InputError("it is a damaged IDX array (truncated header)");
    for (std::size_t d = 0; d < dimensions; ++d)
        layout.shape.push_back(static_cast<std::int64_t>(big_endian_number(bytes, 4 + 4 * d)));
    return layout;
}

// The text after a key of the header's dictionary, from its value on.
std::string_view npy_value(std::string_view header, std::string_view key) {
    for (const char quote : {'\'', '"'}) {
        const std::string quoted = quote + std::string(key) + quote;
        const std::size_t at = header.find(quoted);
        if (at == std::string_view::npos) continue;
        const std::size_t value = header.find_first_not_of(" :", at + quoted.size());
        if (value != std::string_view::npos) return header.substr(value);
    }
    throw InputError(fmt::format("it is a damaged NPY array (its header lacks '{}')", key));
}

void set_npy_type(std::string_view text, ArrayLayout& layout) {
    const std::string_view name = text.substr(0, std::min<std::size_t>(text.find(','), 16));
    struct Known {
        std::string_view name;
        NumberType type;
    };
    constexpr Known known[] = {
        {"u1", NumberType::uint8},   {"b1", NumberType::uint8},  {"i1", NumberType::int8},
        {"u2", NumberType::uint16},  {"i2", NumberType::int16},  {"u4", NumberType::uint32},
        {"i4", NumberType::int32},   {"u8", NumberType::uint64}, {"i8", NumberType::int64},
        {"f4", NumberType::float32}, {"f8", NumberType::float64}};
    if (name.size() >= 5 && (name[0] == '\'' || name[0] == '"') && name[4] == name[0])
        for (const Known& type : known)
            if (type.name == name.substr(2, 2) &&
                std::string_view("<>|=").find(name[1]) != std::string_view::npos) {
                layout.type = type.type;
                layout.big_endian = name[1] == '>';
                return;
            }
    throw InputError(fmt::format("its numbers are of type {}; save it as unsigned bytes or 32-bit floats",
                                 printable(name)));
}

std::vector<std::int64_t> npy_shape(std::string_view text) {
    std::vector<std::int64_t> shape;
    const std::size_t end = text.find(')');
    if (!text.starts_with('(') || end == std::string_view::npos)
        throw InputError("it is a damaged NPY array (its shape)");
    for (std::size_t at = 1; at < end;) {
        if (text[at] == ' ' || text[at] == ',' || text[at] == 'L') {
            ++at;
            continue;
        }
        std::int64_t value = 0;
        const auto [next, error] = std::from_chars(text.data() + at, text.data() + end, value);
        if (error != std::errc() || value < 0) throw InputError("it is a damaged NPY array (its shape)");
        shape.push_back(value);
        at = static_cast<std::size_t>(next - text.data());
    }
    return shape;
}

ArrayLayout read_npy(std::span<const std::byte> bytes) {
    const std::size_t version = bytes.size() > 8 ? std::to_integer<std::size_t>(bytes[6]) : 0;
    const std::size_t length_bytes = version == 1 ? 2 : 4;
    const std::size_t start = 8 + length_bytes;
    if (version < 1 || version > 3 || bytes.size() < start)
        throw InputError("it is a damaged NPY array (truncated header, or unknown version)");
    std::size_t length = 0;
    for (std::size_t i = length_bytes; i-- > 0;)
        length = length << 8 | std::to_integer<std::size_t>(bytes[8 + i]);
    if (bytes.size() - start < length)
        throw InputError("it is a damaged NPY array (truncated header, or one longer than 1 MB)");
    const std::string_view header(reinterpret_cast<const char*>(bytes.data()) + start, length);
    ArrayLayout layout;
    layout.offset = start + length;
    set_npy_type(npy_value(header, "descr"), layout);
    layout.first_index_fastest = npy_value(header, "fortran_order").starts_with("True");
    layout.shape = npy_shape(npy_value(header, "shape"));
    return layout;
}

template <typename Number>
double read_number(const std::byte* from, bool big_endian) {
    std::array<std::byte, sizeof(Number)> raw;
    std::memcpy(raw.data(), from, sizeof(Number));
    if (big_endian != (std::endian::native == std::endian::big)) std::reverse(raw.begin(), raw.end());
    return static_cast<double>(std::bit_cast<Number>(raw));
}

std::string spoken_shape(const std::vector<std::int64_t>& shape) {
    return fmt::format("[{}]", fmt::join(shape, ", "));
}

}  // namespace

bool is_number_array(std::span<const std::byte> bytes) {
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (text.starts_with(npy_mark)) return true;
    return bytes.size() >= 4 && text[0] == 0 && text[1] == 0 && text[2] >= 0x08 && text[2] <= 0x0E &&
           text[3] >= 1 && text[3] <= 8;
}

ArrayLayout read_header(std::span<const std::byte> bytes) {
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (!is_number_array(bytes)) throw InputError("it is neither an IDX nor an NPY array");
    ArrayLayout layout = text.starts_with(npy_mark) ? read_npy(bytes) : read_idx(bytes);
    if (layout.shape.empty()) throw InputError("it holds a scalar, not a list of items");
    static_cast<void>(stated_bytes(layout));
    return layout;
}

std::size_t stated_bytes(const ArrayLayout& layout) {
    std::size_t stated = 1;
    for (const std::int64_t length : layout.shape) {
        const auto factor = static_cast<std::size_t>(length);
        if (factor != 0 && stated > std::numeric_limits<std::size_t>::max() / 16 / factor)
            throw InputError(fmt::format("its shape {} is invalid", spoken_shape(layout.shape)));
        stated *= factor;
    }
    if (stated == 0) throw InputError(fmt::format("its shape {} is empty", spoken_shape(layout.shape)));
    return stated * width_of(layout.type);
}

void require_stated_bytes(const ArrayLayout& layout, std::size_t file_size) {
    const std::size_t stated = stated_bytes(layout);
    const std::size_t width = width_of(layout.type);
    const std::size_t held = file_size - layout.offset;
    if (held != stated)
        throw InputError(
            fmt::format("its shape {} means {} numbers, but it holds {}; it is truncated or damaged",
                        spoken_shape(layout.shape), stated / width,
                        held > stated && held / width == stated / width ? stated / width + 1 : held / width));
}

ArrayLayout read_layout(std::span<const std::byte> bytes, std::size_t file_size) {
    ArrayLayout layout = read_header(bytes);
    require_stated_bytes(layout, file_size);
    return layout;
}

namespace {

// The numbers of a file whose first index is the fastest, in the order of C.
std::vector<std::byte> in_order_of_c(std::span<const std::byte> bytes, const ArrayLayout& layout) {
    const std::size_t width = width_of(layout.type);
    std::vector<std::int64_t> strides(layout.shape.size(), 1);
    for (std::size_t d = 1; d < strides.size(); ++d) strides[d] = strides[d - 1] * layout.shape[d - 1];
    std::vector<std::byte> ordered(bytes.size());
    std::vector<std::int64_t> index(layout.shape.size());
    for (std::size_t to = 0; to < ordered.size(); to += width) {
        std::int64_t place = 0;
        for (std::size_t d = 0; d < index.size(); ++d) place += index[d] * strides[d];
        std::memcpy(ordered.data() + to, bytes.data() + static_cast<std::size_t>(place) * width, width);
        for (std::size_t d = index.size(); d-- > 0 && ++index[d] == layout.shape[d];) index[d] = 0;
    }
    return ordered;
}

}  // namespace

NumberArray::NumberArray(const std::filesystem::path& path) {
    const ArrayPlace place = find_array(path);
    file_ = std::make_shared<InputFile>(place.file);
    const auto size = static_cast<std::size_t>(file_->size());
    std::vector<std::byte> beginning(std::min(size, largest_array_header));
    file_->read(0, beginning);
    std::vector<std::byte> numbers;
    if (!place.member.empty() || is_gzip(beginning)) {
        UnpackedArray unpacked = unpack_array(place);
        layout_ = std::move(unpacked.layout);
        numbers = std::move(unpacked.bytes);
        numbers.erase(numbers.begin(), numbers.begin() + static_cast<std::ptrdiff_t>(layout_.offset));
    } else {
        try {
            if (is_archive(beginning))
                throw InputError("it is an archive; name one of its arrays, as in \"data.npz/x_train\"");
            layout_ = read_layout(beginning, size);
        } catch (const InputError& error) {
            throw InputError(fmt::format("{}: {}", printable(path.string()), error.what()));
        }
        if (!layout_.first_index_fastest) return;
        numbers.resize(size - layout_.offset);
        file_->read(static_cast<std::int64_t>(layout_.offset), numbers);
    }
    whole_ = layout_.first_index_fastest ? in_order_of_c(numbers, layout_) : std::move(numbers);
}

std::int64_t NumberArray::row_size() const {
    std::int64_t size = 1;
    for (std::size_t d = 1; d < layout_.shape.size(); ++d) size *= layout_.shape[d];
    return size;
}

NumberRows NumberArray::rows(std::int64_t first, std::int64_t count) const {
    const std::size_t row = static_cast<std::size_t>(row_size()) * width_of(layout_.type);
    const std::size_t begin = static_cast<std::size_t>(first) * row;
    std::vector<std::byte> bytes(static_cast<std::size_t>(count) * row);
    if (whole_.empty())
        file_->read(static_cast<std::int64_t>(layout_.offset + begin), bytes);
    else
        std::copy_n(whole_.begin() + static_cast<std::ptrdiff_t>(begin), bytes.size(), bytes.begin());
    return {layout_.type, layout_.big_endian, std::move(bytes)};
}

double NumberRows::at(std::int64_t index) const {
    const std::byte* from = bytes_.data() + static_cast<std::size_t>(index) * width_of(type_);
    const bool big = big_endian_;
    switch (type_) {
        case NumberType::uint8:
            return read_number<std::uint8_t>(from, big);
        case NumberType::int8:
            return read_number<std::int8_t>(from, big);
        case NumberType::uint16:
            return read_number<std::uint16_t>(from, big);
        case NumberType::int16:
            return read_number<std::int16_t>(from, big);
        case NumberType::uint32:
            return read_number<std::uint32_t>(from, big);
        case NumberType::int32:
            return read_number<std::int32_t>(from, big);
        case NumberType::uint64:
            return read_number<std::uint64_t>(from, big);
        case NumberType::int64:
            return read_number<std::int64_t>(from, big);
        case NumberType::float32:
            return read_number<float>(from, big);
        case NumberType::float64:
            return read_number<double>(from, big);
    }
    return 0.0;
}

ImageArray::ImageArray(const std::filesystem::path& path, const std::vector<std::int64_t>& shape,
                       bool transposed)
    : name_(printable(path.string())), array_(path), transposed_(transposed) {
    const bool floats = array_.type() == NumberType::float32 || array_.type() == NumberType::float64;
    if (!floats && array_.type() != NumberType::uint8 && array_.type() != NumberType::uint16)
        throw InputError(
            fmt::format("{}: its numbers are neither unsigned bytes, nor unsigned of 16 bits, nor floats; "
                        "save images as one of them",
                        name_));
    std::vector<std::int64_t> own(array_.shape().begin() + 1, array_.shape().end());
    if (!shape.empty()) {
        std::int64_t values = 1;
        for (const std::int64_t length : shape) values *= length;
        if (values != array_.row_size())
            throw InputError(fmt::format("{}: 'shape' {} means {} values per image, but its rows have {}",
                                         name_, spoken_shape(shape), values, array_.row_size()));
        own = shape;
    }
    set_shape(std::move(own));
    if (height_ > largest_image_side || width_ > largest_image_side)
        throw InputError(fmt::format("{}: images of {}x{} are too large; the limit is {} a side", name_,
                                     width_, height_, largest_image_side));
    if (floats) {
        double low = 0.0;
        double high = 0.0;
        for (std::int64_t item = 0; item < count(); ++item) {
            const NumberRows row = array_.rows(item, 1);
            for (std::int64_t i = 0; i < array_.row_size(); ++i) {
                const double value = row.at(i);
                if (!std::isfinite(value)) continue;
                low = std::min(low, value);
                high = std::max(high, value);
            }
        }
        if (low < 0.0 || high > 255.0)
            throw InputError(
                fmt::format("{}: its values go from {:.4g} to {:.4g}; scale them to 0 to 1 or 0 to 255",
                            name_, low, high));
        factor_ = high <= 1.0 ? 255.0 : 1.0;
    }
}

void ImageArray::set_shape(std::vector<std::int64_t> shape) {
    const auto is_channels = [](std::int64_t length) { return length == 1 || length == 3; };
    if (shape.size() == 2) shape.push_back(1);
    if (shape.size() == 3 && is_channels(shape[2])) {
        height_ = shape[0];
        width_ = shape[1];
        channels_ = static_cast<int>(shape[2]);
        return;
    }
    if (shape.size() == 3 && is_channels(shape[0])) {
        channels_first_ = true;
        channels_ = static_cast<int>(shape[0]);
        height_ = shape[1];
        width_ = shape[2];
        return;
    }
    const auto side =
        static_cast<std::int64_t>(std::lround(std::sqrt(static_cast<double>(array_.row_size()))));
    const std::string guess =
        side * side == array_.row_size() ? fmt::format("; perhaps shape = [{0}, {0}]", side) : "";
    throw InputError(
        fmt::format("{}: its shape is {}; images need [count, height, width], with 1 or 3 "
                    "channels first or last; state their 'shape' in the plan{}",
                    name_, spoken_shape(array_.shape()), guess));
}

Image ImageArray::image(std::int64_t index, const ValueRange& range) const {
    Image image(width(), height());
    const NumberRows row = array_.rows(index, 1);
    const std::int64_t plane = width_ * height_;
    for (std::int64_t y = 0; y < image.height; ++y)
        for (std::int64_t x = 0; x < image.width; ++x) {
            const std::int64_t pixel = transposed_ ? x * width_ + y : y * width_ + x;
            std::uint8_t* to = image.at(x, y);
            for (int c = 0; c < channels_; ++c) {
                const double value =
                    row.at(channels_first_ ? c * plane + pixel : pixel * channels_ + c) * factor_;
                if (!std::isfinite(value)) throw InputError("it contains NaN or infinite values");
                to[c] = is_wide() ? range.byte(static_cast<int>(value))
                                  : static_cast<std::uint8_t>(std::lround(value));
            }
            if (channels_ == 1) to[1] = to[2] = to[0];
        }
    return image;
}

LabelArray read_labels(const std::filesystem::path& path) {
    const NumberArray array(path);
    const std::string name = printable(path.string());
    const std::int64_t count = array.shape().front();
    const std::int64_t columns = array.row_size();
    if (array.shape().size() > 2)
        throw InputError(fmt::format("{}: its shape is {}; labels need [count] or one-hot [count, classes]",
                                     name, spoken_shape(array.shape())));
    const NumberRows rows = array.rows(0, count);
    LabelArray result{.labels = {}, .columns = columns > 1 ? columns : 0};
    for (std::int64_t row = 0; row < count; ++row) {
        if (columns == 1) {
            const double value = rows.at(row);
            if (!(value == std::floor(value)) || std::abs(value) > 1e9)
                throw InputError(fmt::format("{}: label {} is {}, not an integer", name, row, value));
            result.labels.push_back(static_cast<std::int64_t>(value));
            continue;
        }
        std::optional<std::int64_t> one;
        for (std::int64_t c = 0; c < columns; ++c) {
            const double value = rows.at(row * columns + c);
            if ((value != 0.0 && value != 1.0) || (value == 1.0 && one))
                throw InputError(fmt::format("{}: row {} is not one-hot: one 1 and otherwise 0", name, row));
            if (value == 1.0) one = c;
        }
        if (!one) throw InputError(fmt::format("{}: row {} is not one-hot: it has no 1", name, row));
        result.labels.push_back(*one);
    }
    return result;
}

}  // namespace jevrin::inline v1
