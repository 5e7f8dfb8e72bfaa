// A model file as it is stored: nodes parsed, large tensors left in the file until they are wanted, so that
// reading takes little more memory than the weights themselves.
#pragma once

#include "jevrin/base/files.hpp"
#include "jevrin/exchange/function_inlining.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <onnx/onnx_pb.h>

#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Dimensions beyond this are refused before any memory is taken.
inline constexpr std::int64_t largest_dimension = 1 << 20;

// A tensor of a model file. Elements are converted to the type asked for.
class StoredTensor {
  public:
    // A tensor that was parsed whole. InputError for shapes, types and sizes that cannot be.
    explicit StoredTensor(onnx::TensorProto proto);
    // One whose elements lie in a file.
    StoredTensor(onnx::TensorProto proto, std::shared_ptr<const InputFile> file, std::int64_t offset,
                 std::int64_t bytes);

    const std::string& name() const { return proto_.name(); }
    const Shape& shape() const { return shape_; }
    std::int64_t size() const { return size_; }
    int element_type() const { return proto_.data_type(); }
    // Whether its numbers are whole ones (or truths).
    bool whole() const;

    // Elements from `begin` on, in memory order. InputError when one is not finite.
    void read(std::int64_t begin, std::span<float> values) const;
    void read(std::int64_t begin, std::span<double> values) const;

  private:
    void check();
    template <typename Value>
    void convert(std::int64_t begin, std::span<Value> values) const;
    template <typename Stored, typename Value>
    void convert_from(std::int64_t begin, std::span<Value> values) const;

    onnx::TensorProto proto_;  // without its elements when they lie in a file
    Shape shape_;
    std::int64_t size_ = 1;
    std::shared_ptr<const InputFile> file_;
    std::int64_t offset_ = 0;
    std::int64_t bytes_ = 0;
};

struct StoredModel {
    std::int64_t opset = 0;
    std::vector<StoredNode> nodes;  // without local functions: their bodies stand in place of them
    std::vector<onnx::ValueInfoProto> inputs;
    std::vector<onnx::ValueInfoProto> outputs;
    std::map<std::string, StoredTensor> weights;
    std::map<std::string, std::string> metadata;
};

// InputError, without the name of the file, when it is no model, cut short, or claims what cannot be.
StoredModel read_stored_model(const std::filesystem::path& path);

}  // namespace jevrin::inline v1
