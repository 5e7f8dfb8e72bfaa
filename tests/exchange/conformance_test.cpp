// The open conformance cases of the model format (Debian package libonnx-testdata), groups "node" and
// "simple": every case whose operators are read must give the expected numbers or be refused with a message;
// none may be computed wrongly. docs/formats.md lists what passes; the list is made here.
//
// A case is tried in four ways: its first input as a batch and the others as weights in the file; the first
// as an item without a batch; all its inputs as pieces of one item; all of them as constants, which are
// folded.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/exchange/operator_forms.hpp"
#include "jevrin/execution/inference.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <onnx/checker.h>
#include <onnx/onnx_pb.h>
#include <onnx/shape_inference/implementation.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <map>
#include <numeric>
#include <set>

namespace jevrin {
namespace {

const std::filesystem::path data_directory = "/usr/share/libonnx-testdata/data";

onnx::TensorProto read_tensor(const std::filesystem::path& file) {
    onnx::TensorProto tensor;
    EXPECT_TRUE(tensor.ParseFromString(read_text(file))) << file;
    return tensor;
}

template <typename Stored>
std::vector<float> raw_numbers(const std::string& raw) {
    std::vector<Stored> stored(raw.size() / sizeof(Stored));
    if (!raw.empty()) std::memcpy(stored.data(), raw.data(), raw.size());
    return {stored.begin(), stored.end()};
}

std::vector<float> numbers_of(const onnx::TensorProto& t) {
    using onnx::TensorProto;
    if (t.has_raw_data()) {
        if (t.data_type() == TensorProto::FLOAT) return raw_numbers<float>(t.raw_data());
        if (t.data_type() == TensorProto::DOUBLE) return raw_numbers<double>(t.raw_data());
        if (t.data_type() == TensorProto::INT64) return raw_numbers<std::int64_t>(t.raw_data());
        if (t.data_type() == TensorProto::INT32) return raw_numbers<std::int32_t>(t.raw_data());
        return raw_numbers<std::uint8_t>(t.raw_data());
    }
    if (t.float_data_size() > 0) return {t.float_data().begin(), t.float_data().end()};
    if (t.int64_data_size() > 0) return {t.int64_data().begin(), t.int64_data().end()};
    return {t.int32_data().begin(), t.int32_data().end()};
}

bool is_usual(int type) {
    using onnx::TensorProto;
    return type == TensorProto::FLOAT || type == TensorProto::DOUBLE || type == TensorProto::INT64 ||
           type == TensorProto::INT32 || type == TensorProto::BOOL;
}

// [batch, channels, pixels] to [batch, pixels, channels], or back.
std::vector<float> reorder(const std::vector<float>& values, const Shape& first, bool to_last) {
    if (first.size() != 4) return values;
    const std::int64_t channels = first[1];
    const std::int64_t pixels = first[2] * first[3];
    std::vector<float> result(values.size());
    for (std::int64_t n = 0; n < first[0]; ++n)
        for (std::int64_t c = 0; c < channels; ++c)
            for (std::int64_t p = 0; p < pixels; ++p) {
                const auto a = static_cast<std::size_t>((n * channels + c) * pixels + p);
                const auto b = static_cast<std::size_t>((n * pixels + p) * channels + c);
                result[to_last ? b : a] = values[to_last ? a : b];
            }
    return result;
}

struct Case {
    std::string name;
    onnx::ModelProto model;
    std::vector<onnx::TensorProto> inputs;
    std::vector<onnx::TensorProto> outputs;
};

// Nothing when the case is about other kinds of numbers, or not about tensors.
std::optional<Case> read_case(const std::filesystem::path& directory) {
    Case one{.name = directory.filename().string().substr(5)};
    // Windows of signals, whose bodies state pi to five digits.
    if (one.name.find("window") != std::string::npos) return std::nullopt;
    if (!one.model.ParseFromString(read_text(directory / "model.onnx"))) return std::nullopt;
    // Operators of older sets that have not changed since; sets beyond are another matter.
    auto& opset = *one.model.mutable_opset_import(0);
    if (opset.version() < 7) opset.set_version(7);
    const auto& graph = one.model.graph();
    const auto read_all = [&](const auto& values, const char* what, auto& tensors) {
        for (int i = 0; i < values.size(); ++i) {
            const auto file = directory / "test_data_set_0" / fmt::format("{}_{}.pb", what, i);
            if (!values[i].type().has_tensor_type() || !std::filesystem::exists(file)) return false;
            tensors.push_back(read_tensor(file));
            if (!is_usual(tensors.back().data_type()) || numbers_of(tensors.back()).empty()) return false;
        }
        return true;
    };
    if (!read_all(graph.input(), "input", one.inputs) || !read_all(graph.output(), "output", one.outputs))
        return std::nullopt;
    return one;
}

std::set<std::string> operators_of(const Case& one) {
    std::set<std::string> types;
    for (const auto& node : one.model.graph().node()) types.insert(node.op_type());
    return types;
}

enum class Way { batch, first, item, constants };

// A variant of a case for one way, what its single input holds, and whether that input is a batch.
struct Variant {
    onnx::ModelProto model;
    std::vector<float> input;
    std::int64_t batch = 1;
};

onnx::NodeProto& add_node(onnx::GraphProto& graph, const std::string& type,
                          const std::vector<std::string>& inputs, const std::string& output) {
    onnx::NodeProto& node = *graph.add_node();
    node.set_op_type(type);
    for (const std::string& input : inputs) node.add_input(input);
    node.add_output(output);
    return node;
}

std::string add_integers(onnx::GraphProto& graph, const std::string& name,
                         const std::vector<std::int64_t>& values) {
    onnx::TensorProto& tensor = *graph.add_initializer();
    tensor.set_name(name);
    tensor.set_data_type(onnx::TensorProto::INT64);
    tensor.add_dims(std::ssize(values));
    for (const std::int64_t value : values) tensor.add_int64_data(value);
    return name;
}

// output = piece [begin, end) of the values in the row `input`; slices took attributes once.
void add_slice(onnx::ModelProto& model, const std::string& input, std::int64_t begin, std::int64_t end,
               const std::string& output) {
    onnx::GraphProto& graph = *model.mutable_graph();
    if (model.opset_import(0).version() >= 10) {
        add_node(
            graph, "Slice",
            {input, add_integers(graph, output + ":b", {begin}), add_integers(graph, output + ":e", {end})},
            output);
        return;
    }
    onnx::NodeProto& node = add_node(graph, "Slice", {input}, output);
    for (const auto& [name, value] : {std::pair("starts", begin), std::pair("ends", end)}) {
        auto& attribute = *node.add_attribute();
        attribute.set_name(name);
        attribute.set_type(onnx::AttributeProto::INTS);
        attribute.add_ints(value);
    }
}

void describe_input(onnx::GraphProto& graph, const std::string& name, const Shape& shape) {
    auto& input = *graph.add_input();
    input.set_name(name);
    input.mutable_type()->mutable_tensor_type()->set_elem_type(onnx::TensorProto::FLOAT);
    for (const std::int64_t size : shape)
        input.mutable_type()->mutable_tensor_type()->mutable_shape()->add_dim()->set_dim_value(size);
}

std::optional<Variant> make_variant(const Case& one, Way way, const std::string& output) {
    Variant variant{.model = one.model};
    onnx::GraphProto& graph = *variant.model.mutable_graph();
    const auto original = graph;
    graph.clear_input();
    graph.clear_node();
    std::vector<std::pair<std::string, std::pair<std::int64_t, Shape>>> pieces;
    for (int i = 0; i < original.input_size(); ++i) {
        onnx::TensorProto tensor = one.inputs[static_cast<std::size_t>(i)];
        const std::string& name = original.input(i).name();
        const Shape shape(tensor.dims().begin(), tensor.dims().end());
        const bool is_float = tensor.data_type() == onnx::TensorProto::FLOAT;
        const std::vector<float> values = numbers_of(tensor);
        if (way == Way::batch && i == 0) {
            if (!is_float || shape.size() < 2) return std::nullopt;
            describe_input(graph, name, shape);
            variant.batch = shape[0];
            variant.input = reorder(values, shape, true);
        } else if (is_float && (way == Way::item || (way == Way::first && i == 0))) {
            pieces.push_back({name, {std::ssize(variant.input), shape}});
            variant.input.insert(variant.input.end(), values.begin(), values.end());
        } else {
            tensor.set_name(name);
            *graph.add_initializer() = tensor;
        }
    }
    if (way != Way::constants && variant.input.empty()) return std::nullopt;
    if (way == Way::constants) variant.input = {0.0F};
    if (way != Way::batch) describe_input(graph, "row", {std::ssize(variant.input)});
    for (const auto& [name, piece] : pieces) {
        const auto& [begin, shape] = piece;
        add_slice(variant.model, "row", begin, begin + element_count(shape), name + ":row");
        add_node(graph, "Reshape", {name + ":row", add_integers(graph, name + ":shape", shape)}, name);
    }
    for (const auto& node : original.node()) *graph.add_node() = node;
    graph.clear_output();
    graph.add_output()->set_name(output);
    if (way == Way::constants) {
        auto& attribute = *add_node(graph, "Cast", {output}, "as_float").add_attribute();
        attribute.set_name("to");
        attribute.set_type(onnx::AttributeProto::INT);
        attribute.set_i(onnx::TensorProto::FLOAT);
        add_node(graph, "Add", {"as_float", "row"}, "seen");
        graph.mutable_output(0)->set_name("seen");
    }
    return variant;
}

std::vector<float> run_on(const Network& network, const Variant& variant, const Shape& expected) {
    Inference inference(network, variant.batch);
    const auto result = inference.run(variant.batch, variant.input);
    const std::vector<float> values(result.begin(), result.end());
    const Shape item = infer_shapes(network).back();
    const bool image = network.input.size() == 3 && item.size() == 3;
    return image || expected.size() == 4
               ? reorder(values, item.size() == 3 ? Shape{variant.batch, item[2], item[0], item[1]} : Shape{},
                         false)
               : values;
}

// Whether an independent reader finds nothing wrong with a file, its shapes included.
void expect_valid(const std::filesystem::path& file) {
    onnx::ModelProto proto;
    ASSERT_TRUE(proto.ParseFromString(read_text(file)));
    EXPECT_GE(proto.opset_import(0).version(), 13);
    try {
        onnx::checker::check_model(proto);
        onnx::shape_inference::InferShapes(proto, onnx::OpSchemaRegistry::Instance(), {true, 1, false});
    } catch (const std::exception& error) {
        ADD_FAILURE() << error.what();
    }
}

// How many ways of a case gave the expected numbers; a failure is reported for each that gave others.
int passing_ways(const Case& one, std::string& refusal) {
    const test::TemporaryDirectory directory;
    int passed = 0;
    for (const Way way : {Way::batch, Way::first, Way::item, Way::constants}) {
        bool first_passes = false;
        for (std::size_t k = 0; k < one.outputs.size() && (k == 0 || first_passes); ++k) {
            const onnx::TensorProto& output = one.outputs[k];
            const auto variant = make_variant(one, way, one.model.graph().output(static_cast<int>(k)).name());
            if (!variant) break;
            write_file(directory / "case.onnx", variant->model.SerializeAsString());
            const Shape shape(output.dims().begin(), output.dims().end());
            const std::vector<float> expected = numbers_of(output);
            try {
                const Model model = read_model(directory / "case.onnx");
                const std::vector<float> ours = run_on(model.network, *variant, shape);
                EXPECT_EQ(ours.size(), expected.size()) << one.name << " way " << static_cast<int>(way);
                if (ours.size() != expected.size()) return 0;
                for (std::size_t i = 0; i < ours.size(); ++i)
                    if (!(std::abs(ours[i] - expected[i]) <= 1e-5F + 1e-5F * std::abs(expected[i]))) {
                        ADD_FAILURE() << one.name << " way " << static_cast<int>(way) << " place " << i
                                      << ": " << ours[i] << ", expected " << expected[i];
                        return 0;
                    }
                // And what we write of it is valid and computes the same.
                write_model(directory / "written.onnx", model);
                expect_valid(directory / "written.onnx");
                const Model again = read_model(directory / "written.onnx");
                EXPECT_EQ(run_on(again.network, *variant, shape), ours)
                    << one.name << " way " << static_cast<int>(way);
                first_passes = true;
            } catch (const InputError& error) {
                EXPECT_THAT(error.what(), testing::HasSubstr(".onnx: ")) << one.name;
                if (refusal.empty()) refusal = error.what();
            }
        }
        passed += first_passes ? 1 : 0;
    }
    return passed;
}

std::vector<std::filesystem::path> case_directories() {
    std::vector<std::filesystem::path> all;
    for (const char* group : {"node", "simple"})
        for (const auto& entry : std::filesystem::directory_iterator(data_directory / group))
            all.push_back(entry.path());
    std::sort(all.begin(), all.end());
    return all;
}

struct Coverage {
    int passed = 0;
    std::vector<std::string> refused;
};

// Operators in which sets beyond those of the open cases changed something, or that are younger.
std::string forms_without_cases() {
    constexpr std::int64_t newest_of_cases = 17;
    std::vector<std::string> names;
    for (const auto& [type, form] : operator_forms()) {
        std::vector<std::int64_t> sets;
        if (form.first > newest_of_cases) sets.push_back(form.first);
        for (const std::int64_t set : form.changed)
            if (set > newest_of_cases) sets.push_back(set);
        if (!sets.empty()) names.push_back(fmt::format("{} ({})", type, fmt::join(sets, ", ")));
    }
    return fmt::format("{}", fmt::join(names, ", "));
}

std::string table_of(const std::map<std::string, Coverage>& coverage, const std::set<std::string>& unread) {
    std::string text =
        "| operator | from set | changed in | open cases that pass | cases refused |\n"
        "| --- | --- | --- | --- | --- |\n";
    const auto cases_of = [&](const std::string& type) {
        const auto found = coverage.find(type);
        return found == coverage.end() ? Coverage{} : found->second;
    };
    for (const auto& [type, form] : operator_forms()) {
        const Coverage entry = cases_of(type);
        text += fmt::format("| {} | {} | {} | {} | {} |\n", type, form.first, fmt::join(form.changed, ", "),
                            entry.passed, fmt::join(entry.refused, ", "));
    }
    const Coverage together = cases_of("several together");
    text += fmt::format("| several together |  |  | {} | {} |\n", together.passed,
                        fmt::join(together.refused, ", "));
    text += fmt::format("\nForms of sets 18 and later, which no open case confirms: {}.\n",
                        forms_without_cases());
    text += fmt::format("\nUnsupported operators of these cases: {}.\n", fmt::join(unread, ", "));
    return text;
}

TEST(Conformance, EveryOperatorThatIsReadHasItsForms) {
    std::set<std::string> described;
    for (const auto& [type, form] : operator_forms()) described.insert(type);
    const auto names = readable_operators();
    EXPECT_EQ(described, std::set<std::string>(names.begin(), names.end()));
}

TEST(Conformance, EveryCaseOfAReadOperatorGivesItsNumbersOrIsRefusedAsDocumented) {
    const auto names = readable_operators();
    const std::set<std::string> readable(names.begin(), names.end());
    std::map<std::string, Coverage> coverage;
    std::set<std::string> unread;
    for (const auto& directory : case_directories()) {
        const auto one = read_case(directory);
        if (!one) continue;
        const auto types = operators_of(*one);
        if (!std::includes(readable.begin(), readable.end(), types.begin(), types.end())) {
            if (types.size() == 1) unread.insert(types.begin(), types.end());
            continue;
        }
        std::string refusal;
        const int passed = passing_ways(*one, refusal);
        Coverage& entry = coverage[types.size() == 1 ? *types.begin() : "several together"];
        if (passed > 0)
            ++entry.passed;
        else
            entry.refused.push_back(one->name);
    }
    int passed = 0;
    for (const auto& [type, entry] : coverage) passed += entry.passed;
    EXPECT_GT(passed, 200);

    const std::filesystem::path document = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "docs/formats.md";
    const std::string begin = "<!-- conformance -->\n";
    const std::string end = "<!-- end of conformance -->\n";
    std::string text = read_text(document);
    const std::size_t from = text.find(begin);
    const std::size_t to = text.find(end);
    ASSERT_NE(from, std::string::npos);
    ASSERT_NE(to, std::string::npos);
    const std::string written = text.substr(from + begin.size(), to - from - begin.size());
    const std::string made = table_of(coverage, unread);
    if (std::getenv("JEVRIN_WRITE_CONFORMANCE") != nullptr)
        write_file(document, text.replace(from + begin.size(), written.size(), made));
    else
        EXPECT_EQ(written, made) << "run this test with JEVRIN_WRITE_CONFORMANCE=1 to write the list anew";
}

}  // namespace
}  // namespace jevrin
