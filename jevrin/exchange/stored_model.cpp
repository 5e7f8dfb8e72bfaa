#include "jevrin/exchange/stored_model.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_seal.hpp"

#include <fmt/format.h>
#include <google/protobuf/io/coded_stream.h>
#include <google/protobuf/io/zero_copy_stream_impl.h>
#include <google/protobuf/wire_format_lite.h>

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <limits>

namespace jevrin::inline v1 {
namespace {

static_assert(std::endian::native == std::endian::little, "stored elements are little-endian");

using google::protobuf::internal::WireFormatLite;
using google::protobuf::io::CodedInputStream;
using google::protobuf::io::FileInputStream;

// Smaller messages are parsed whole.
constexpr int large_message = 1 << 16;
// Elements are converted this many at a time.
constexpr std::int64_t piece = 1 << 16;

// Field numbers of the format's definition.
enum ModelField { model_graph = 7, model_opset = 8, model_metadata = 14, model_function = 25 };
enum GraphField { graph_node = 1, graph_initializer = 5, graph_input = 11, graph_output = 12 };
enum TensorField { tensor_float_data = 4, tensor_raw_data = 9 };

[[noreturn]] void fail_cut_short() {
    throw InputError("it is not an ONNX file, or it is truncated; export it again");
}

float from_half(std::uint16_t half) {
    const std::uint32_t sign = (half & 0x8000U) << 16U;
    const std::uint32_t exponent = (half >> 10U) & 0x1FU;
    const std::uint32_t fraction = half & 0x3FFU;
    if (exponent == 0) return std::ldexp(static_cast<float>(fraction), -24) * (sign != 0 ? -1.0F : 1.0F);
    const std::uint32_t widened = exponent == 31 ? 255U : exponent + 112U;
    return std::bit_cast<float>(sign | widened << 23U | fraction << 13U);
}

// Stored numbers of 16 bits that are no integers.
struct Half {
    std::uint16_t bits;
    operator float() const { return from_half(bits); }
};
struct BrainFloat {
    std::uint16_t bits;
    operator float() const { return std::bit_cast<float>(static_cast<std::uint32_t>(bits) << 16U); }
};

std::int64_t element_bytes(int type) {
    switch (type) {
        case onnx::TensorProto::FLOAT:
        case onnx::TensorProto::INT32:
        case onnx::TensorProto::UINT32:
            return 4;
        case onnx::TensorProto::DOUBLE:
        case onnx::TensorProto::INT64:
        case onnx::TensorProto::UINT64:
            return 8;
        case onnx::TensorProto::FLOAT16:
        case onnx::TensorProto::BFLOAT16:
        case onnx::TensorProto::INT16:
        case onnx::TensorProto::UINT16:
            return 2;
        case onnx::TensorProto::BOOL:
        case onnx::TensorProto::INT8:
        case onnx::TensorProto::UINT8:
            return 1;
        default:
            return 0;
    }
}

bool is_floating(int type) {
    return type == onnx::TensorProto::FLOAT || type == onnx::TensorProto::DOUBLE ||
           type == onnx::TensorProto::FLOAT16 || type == onnx::TensorProto::BFLOAT16;
}

}  // namespace

StoredTensor::StoredTensor(onnx::TensorProto proto) : proto_(std::move(proto)) {
    check();
    const int stored = std::max({proto_.float_data_size(), proto_.int32_data_size(), proto_.int64_data_size(),
                                 proto_.double_data_size(), proto_.uint64_data_size()});
    const std::int64_t bytes =
        stored > 0 ? stored * element_bytes(proto_.data_type()) : std::ssize(proto_.raw_data());
    if (bytes != size_ * element_bytes(proto_.data_type()))
        throw InputError(
            fmt::format("the weight '{}' holds {} bytes and its shape {} needs {}", printable(name()), bytes,
                        to_string(shape_), size_ * element_bytes(proto_.data_type())),
            ErrorPlace::part);
}

StoredTensor::StoredTensor(onnx::TensorProto proto, std::shared_ptr<const InputFile> file,
                           std::int64_t offset, std::int64_t bytes)
    : proto_(std::move(proto)), file_(std::move(file)), offset_(offset), bytes_(bytes) {
    check();
    if (bytes_ != size_ * element_bytes(proto_.data_type()))
        throw InputError(
            fmt::format("the weight '{}' holds {} bytes and its shape {} needs {}", printable(name()), bytes_,
                        to_string(shape_), size_ * element_bytes(proto_.data_type())),
            ErrorPlace::part);
}

void StoredTensor::check() {
    if (element_bytes(proto_.data_type()) == 0)
        throw InputError(fmt::format("the weight '{}' has the unsupported type {}; export it as "
                                     "float32",
                                     printable(name()), proto_.data_type()),
                         ErrorPlace::part);
    shape_.assign(proto_.dims().begin(), proto_.dims().end());
    for (const std::int64_t size : shape_) {
        if (size < 0 || size > largest_dimension ||
            (size > 0 && size_ > std::numeric_limits<std::int32_t>::max() / size))
            throw InputError(
                fmt::format("the weight '{}' has the invalid shape {}", printable(name()), to_string(shape_)),
                ErrorPlace::part);
        size_ *= size;
    }
}

bool StoredTensor::whole() const {
    return !is_floating(proto_.data_type());
}

template <typename Stored, typename Value>
void StoredTensor::convert_from(std::int64_t begin, std::span<Value> values) const {
    std::vector<Stored> stored(std::min<std::size_t>(values.size(), piece));
    for (std::size_t done = 0; done < values.size(); done += stored.size()) {
        const std::size_t count = std::min(stored.size(), values.size() - done);
        const std::int64_t offset =
            (begin + static_cast<std::int64_t>(done)) * static_cast<std::int64_t>(sizeof(Stored));
        if (file_)
            file_->read(offset_ + offset, std::as_writable_bytes(std::span(stored).first(count)));
        else
            std::memcpy(stored.data(), proto_.raw_data().data() + offset, count * sizeof(Stored));
        for (std::size_t i = 0; i < count; ++i) values[done + i] = static_cast<Value>(stored[i]);
    }
}

template <typename Value>
void StoredTensor::convert(std::int64_t begin, std::span<Value> values) const {
    const auto from_field = [&](const auto& field) {
        for (std::size_t i = 0; i < values.size(); ++i) {
            const auto value = field[static_cast<int>(begin) + static_cast<int>(i)];
            if (proto_.data_type() == onnx::TensorProto::FLOAT16)
                values[i] = static_cast<Value>(from_half(static_cast<std::uint16_t>(value)));
            else if (proto_.data_type() == onnx::TensorProto::BFLOAT16)
                values[i] =
                    static_cast<Value>(static_cast<float>(BrainFloat{static_cast<std::uint16_t>(value)}));
            else
                values[i] = static_cast<Value>(value);
        }
    };
    if (proto_.float_data_size() > 0) return from_field(proto_.float_data());
    if (proto_.int32_data_size() > 0) return from_field(proto_.int32_data());
    if (proto_.int64_data_size() > 0) return from_field(proto_.int64_data());
    if (proto_.double_data_size() > 0) return from_field(proto_.double_data());
    if (proto_.uint64_data_size() > 0) return from_field(proto_.uint64_data());
    switch (proto_.data_type()) {
        case onnx::TensorProto::FLOAT:
            return convert_from<float>(begin, values);
        case onnx::TensorProto::DOUBLE:
            return convert_from<double>(begin, values);
        case onnx::TensorProto::FLOAT16:
            return convert_from<Half>(begin, values);
        case onnx::TensorProto::BFLOAT16:
            return convert_from<BrainFloat>(begin, values);
        case onnx::TensorProto::INT64:
            return convert_from<std::int64_t>(begin, values);
        case onnx::TensorProto::UINT64:
            return convert_from<std::uint64_t>(begin, values);
        case onnx::TensorProto::INT32:
            return convert_from<std::int32_t>(begin, values);
        case onnx::TensorProto::UINT32:
            return convert_from<std::uint32_t>(begin, values);
        case onnx::TensorProto::INT16:
            return convert_from<std::int16_t>(begin, values);
        case onnx::TensorProto::UINT16:
            return convert_from<std::uint16_t>(begin, values);
        case onnx::TensorProto::INT8:
            return convert_from<std::int8_t>(begin, values);
        default:
            return convert_from<std::uint8_t>(begin, values);
    }
}

void StoredTensor::read(std::int64_t begin, std::span<float> values) const {
    convert(begin, values);
    // Summing what each element leaves of zero is quick and finds any that is not finite.
    float rest = 0.0F;
    for (const float v : values) rest += v * 0.0F;
    if (rest != 0.0F || std::isnan(rest))
        throw InputError(fmt::format("the weight '{}' contains NaN or infinite values; its training has "
                                     "failed, or the file is damaged",
                                     printable(name())),
                         ErrorPlace::part);
}

void StoredTensor::read(std::int64_t begin, std::span<double> values) const {
    convert(begin, values);
}

namespace {

// Walks through the file field by field; only what is small is ever parsed into memory.
class ModelWalk {
  public:
    explicit ModelWalk(const std::filesystem::path& path)
        : folder_(path.parent_path()),
          file_(std::make_shared<InputFile>(path)),
          stream_(file_->descriptor()),
          input_(&stream_) {
        if (file_->size() > std::numeric_limits<std::int32_t>::max())
            throw InputError(
                "it is larger than 2 GB, more than the format allows; export it with external weights in "
                "files "
                "beside it");
        input_.SetTotalBytesLimit(std::numeric_limits<std::int32_t>::max());
    }

    StoredModel read() {
        require_seal();
        bool graph_seen = false;
        fields([&](int field, int length) {
            if (field == model_graph && length >= 0) {
                graph_seen = true;
                walk_graph();
            } else if (field == model_opset && length >= 0) {
                const auto opset = parse<onnx::OperatorSetIdProto>(length);
                if (opset.domain().empty() || opset.domain() == "ai.onnx") model_.opset = opset.version();
            } else if (field == model_function && length >= 0) {
                functions_.push_back(parse<onnx::FunctionProto>(length));
            } else if (field == model_metadata && length >= 0) {
                auto entry = parse<onnx::StringStringEntryProto>(length);
                model_.metadata[entry.key()] = entry.value();
            } else {
                return false;
            }
            return true;
        });
        if (!graph_seen || model_.opset == 0) fail_cut_short();
        model_.metadata.erase(hash_key);
        for (StoredNode& node : model_.nodes) node.opset = model_.opset;
        model_.nodes = inline_functions(std::move(model_.nodes), functions_);
        return std::move(model_);
    }

  private:
    // A file that ends in the hash of what is before it must have that hash.
    void require_seal() const {
        constexpr std::size_t digits = 32;
        const std::string expected = model_seal(std::string(digits, '0'));
        const std::int64_t content = file_->size() - std::ssize(expected);
        if (content < 0) return;
        std::string end(expected.size(), '\0');
        file_->read(content, std::as_writable_bytes(std::span(end)));
        if (!end.starts_with(expected.substr(0, expected.size() - digits))) return;
        ContentHasher hasher;
        std::vector<std::byte> piece(std::size_t{1} << 20);
        for (std::int64_t at = 0; at < content; at += std::ssize(piece)) {
            piece.resize(static_cast<std::size_t>(std::min(std::ssize(piece), content - at)));
            file_->read(at, piece);
            hasher.add(piece);
        }
        if (end != model_seal(hasher.hash().text()))
            throw InputError(
                "its content does not have the hash at its end: it is damaged, or another program changed "
                "it; "
                "restore it, or remove its metadata entry 'jevrin.hash' when the change is meant");
    }

    // Calls take(field, length) for each field up to the limit; length is that of a delimited field, around
    // which the limit stands, or -1. What take() leaves is skipped.
    template <typename Take>
    void fields(Take take) {
        while (const std::uint32_t tag = input_.ReadTag()) {
            const int field = WireFormatLite::GetTagFieldNumber(tag);
            if (WireFormatLite::GetTagWireType(tag) != WireFormatLite::WIRETYPE_LENGTH_DELIMITED) {
                if (!WireFormatLite::SkipField(&input_, tag)) fail_cut_short();
                continue;
            }
            int length = 0;
            if (!input_.ReadVarintSizeAsInt(&length) ||
                std::int64_t{input_.CurrentPosition()} + length > file_->size())
                fail_cut_short();
            const auto limit = input_.PushLimit(length);
            if (!take(field, length)) input_.Skip(input_.BytesUntilLimit());
            if (input_.BytesUntilLimit() != 0) fail_cut_short();
            input_.PopLimit(limit);
        }
        if (!input_.ConsumedEntireMessage()) fail_cut_short();
    }

    template <typename Message>
    Message parse(int length) {
        Message message;
        std::string bytes;
        if (!input_.ReadString(&bytes, length) || !message.ParseFromString(bytes)) fail_cut_short();
        return message;
    }

    void walk_graph() {
        fields([&](int field, int length) {
            if (field == graph_node)
                model_.nodes.push_back({parse<onnx::NodeProto>(length)});
            else if (field == graph_input)
                model_.inputs.push_back(parse<onnx::ValueInfoProto>(length));
            else if (field == graph_output)
                model_.outputs.push_back(parse<onnx::ValueInfoProto>(length));
            else if (field == graph_initializer)
                add_weight(length);
            else
                return false;
            return true;
        });
    }

    void add_weight(int length) {
        std::int64_t offset = -1;
        std::int64_t bytes = 0;
        onnx::TensorProto proto =
            length < large_message ? parse<onnx::TensorProto>(length) : parse_around_elements(offset, bytes);
        const std::string name = proto.name();
        if (proto.data_location() == onnx::TensorProto::EXTERNAL) {
            model_.weights.emplace(name, external(std::move(proto)));
        } else if (offset >= 0) {
            model_.weights.emplace(name, StoredTensor(std::move(proto), file_, offset, bytes));
        } else {
            model_.weights.emplace(name, StoredTensor(std::move(proto)));
        }
    }

    // A tensor whose elements stay in the file; offset stays -1 when they are stored in another way.
    onnx::TensorProto parse_around_elements(std::int64_t& offset, std::int64_t& bytes) {
        onnx::TensorProto proto;
        std::string rest;
        while (const std::uint32_t tag = input_.ReadTag()) {
            const int field = WireFormatLite::GetTagFieldNumber(tag);
            const bool delimited =
                WireFormatLite::GetTagWireType(tag) == WireFormatLite::WIRETYPE_LENGTH_DELIMITED;
            if (delimited && offset < 0 && (field == tensor_raw_data || field == tensor_float_data)) {
                int length = 0;
                if (!input_.ReadVarintSizeAsInt(&length)) fail_cut_short();
                offset = input_.CurrentPosition();
                bytes = length;
                if (offset + bytes > file_->size() || !input_.Skip(length)) fail_cut_short();
                continue;
            }
            google::protobuf::io::StringOutputStream out(&rest);
            google::protobuf::io::CodedOutputStream copy(&out);
            if (!WireFormatLite::SkipField(&input_, tag, &copy)) fail_cut_short();
        }
        if (!proto.ParseFromString(rest)) fail_cut_short();
        return proto;
    }

    StoredTensor external(onnx::TensorProto proto) {
        std::map<std::string, std::string> entries;
        for (const auto& entry : proto.external_data()) entries[entry.key()] = entry.value();
        const auto number = [&](const std::string& key, std::int64_t otherwise) {
            const auto found = entries.find(key);
            if (found == entries.end()) return otherwise;
            std::int64_t value = -1;
            const char* const end = found->second.data() + found->second.size();
            const auto [stop, error] = std::from_chars(found->second.data(), end, value);
            if (error != std::errc() || stop != end || value < 0)
                throw InputError(fmt::format("the {} of the weight '{}' in its file is not a number", key,
                                             printable(proto.name())),
                                 ErrorPlace::part);
            return value;
        };
        const std::filesystem::path location = entries["location"];
        const auto file = outside_file(location, proto.name());
        const std::int64_t offset = number("offset", 0);
        const std::int64_t bytes = number("length", file->size() - std::min(offset, file->size()));
        if (offset > file->size() || bytes > file->size() - offset)
            throw InputError(fmt::format("the weight '{}' lies beyond the end of {}; that file is truncated",
                                         printable(proto.name()), printable(location.string())),
                             ErrorPlace::part);
        proto.clear_external_data();
        proto.set_data_location(onnx::TensorProto::DEFAULT);
        return {std::move(proto), file, offset, bytes};
    }

    // A file beside the model or below it; nothing else on the machine is opened.
    std::shared_ptr<const InputFile> outside_file(const std::filesystem::path& location,
                                                  const std::string& weight) {
        const auto refuse = [&](const char* why) {
            throw InputError(fmt::format("the weight '{}' lies in the file '{}', {}; export the model with "
                                         "its weights inside, or beside it",
                                         printable(weight), printable(location.string()), why),
                             ErrorPlace::part);
        };
        std::error_code error;
        const auto folder = std::filesystem::weakly_canonical(folder_.empty() ? "." : folder_, error);
        const auto whole = std::filesystem::weakly_canonical(folder / location, error);
        const auto [end, mismatch] = std::mismatch(folder.begin(), folder.end(), whole.begin(), whole.end());
        static_cast<void>(mismatch);
        if (location.empty() || location.is_absolute() || end != folder.end())
            refuse("which is outside the folder of the model");
        if (!std::filesystem::is_regular_file(whole, error)) refuse("which does not exist");
        auto& file = files_[whole.string()];
        if (!file) file = std::make_shared<InputFile>(whole);
        return file;
    }

    std::filesystem::path folder_;
    std::shared_ptr<const InputFile> file_;
    FileInputStream stream_;
    CodedInputStream input_;
    std::map<std::string, std::shared_ptr<const InputFile>> files_;
    std::vector<onnx::FunctionProto> functions_;
    StoredModel model_;
};

}  // namespace

StoredModel read_stored_model(const std::filesystem::path& path) {
    return ModelWalk(path).read();
}

}  // namespace jevrin::inline v1
