// Model files with their preparation inside: whoever reads them prepares images as we do.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <onnx/checker.h>
#include <onnx/onnx_pb.h>
#include <onnx/shape_inference/implementation.h>

#include <cmath>

namespace jevrin {
namespace {

Classifier made_up(const Fitting& fitting, double temperature) {
    Classifier classifier;
    classifier.network =
        plain_backbone({.widths = {4}}, {fitting.size.height, fitting.size.width, fitting.channels});
    append_head(classifier.network, {}, 3);
    initialise(classifier.network, 0, 5);
    classifier.classes = {"a", "b", "c"};
    classifier.preparation.fitting = fitting;
    classifier.preparation.scaling = {.mean = {0.485, 0.456, 0.406}, .deviation = {0.229, 0.224, 0.225}};
    classifier.temperature = temperature;
    return classifier;
}

Image noise(std::int64_t height, std::int64_t width) {
    Image image(width, height);
    std::uint32_t state = 7;
    for (std::size_t i = 0; i < image.pixels.size(); ++i)
        image.pixels[i] = static_cast<std::uint8_t>((state = state * 1'664'525 + 1'013'904'223) >> 24);
    return image;
}

onnx::ModelProto parsed(const std::filesystem::path& file) {
    onnx::ModelProto model;
    EXPECT_TRUE(model.ParseFromString(read_text(file)));
    return model;
}

// Our preparation, channels first, as a file has it.
std::vector<float> prepared_here(const Preparation& preparation, const Image& image) {
    const std::vector<std::uint8_t> fitted = fit_image(image, preparation.fitting);
    std::vector<float> numbers(fitted.size());
    ScalingTable(preparation.scaling, preparation.fitting.channels).apply(fitted, numbers);
    const auto channels = static_cast<std::size_t>(preparation.fitting.channels);
    std::vector<float> first(numbers.size());
    for (std::size_t i = 0; i < numbers.size(); ++i)
        first[i % channels * (numbers.size() / channels) + i / channels] = numbers[i];
    return first;
}

TEST(PreparedExport, EveryPreparationIsTheSameInsideTheFile) {
    const test::TemporaryDirectory directory;
    const std::filesystem::path file = directory / "model.onnx";
    for (const Fit fit : {Fit::stretch, Fit::crop, Fit::pad})
        for (const FitPadding padding : {FitPadding::edge, FitPadding::constant, FitPadding::mean})
            for (const int channels : {1, 3}) {
                if (fit != Fit::pad && padding != FitPadding::edge) continue;
                const Fitting fitting{.size = {12, 20},
                                      .fit = fit,
                                      .padding = padding,
                                      .padding_colour = {3, 150, 255},
                                      .channels = channels};
                const Classifier classifier = made_up(fitting, 1.0);
                save_prepared_classifier(file, classifier);
                for (const auto& [height, width] : {std::pair{12, 20}, {1, 1}, {7, 40}, {31, 9}, {13, 20}}) {
                    const Image image = noise(height, width);
                    EXPECT_EQ(prepared_by_file(file, image.pixels, height, width),
                              prepared_here(classifier.preparation, image))
                        << name_of(fit) << " " << name_of(padding) << " " << channels << " of " << height
                        << "x" << width;
                }
            }
}

TEST(PreparedExport, IsAValidFileOfTheFormat) {
    const test::TemporaryDirectory directory;
    const std::filesystem::path file = directory / "model.onnx";
    for (const Fit fit : {Fit::stretch, Fit::crop, Fit::pad}) {
        save_prepared_classifier(file, made_up({.size = 16, .fit = fit, .padding = FitPadding::mean}, 1.7));
        const onnx::ModelProto model = parsed(file);
        EXPECT_NO_THROW(onnx::checker::check_model(model));
        onnx::ModelProto inferred = model;
        EXPECT_NO_THROW(onnx::shape_inference::InferShapes(
            inferred, onnx::OpSchemaRegistry::Instance(),
            onnx::ShapeInferenceOptions(/*check_type_val=*/true, /*strict_mode_val=*/1,
                                        /*data_prop_val=*/true)));
        ASSERT_EQ(model.graph().input_size(), 1);
        const auto& input = model.graph().input(0).type().tensor_type();
        EXPECT_EQ(input.elem_type(), onnx::TensorProto::UINT8);
        ASSERT_EQ(input.shape().dim_size(), 4);
        EXPECT_EQ(input.shape().dim(1).dim_param(), "height");
        EXPECT_EQ(input.shape().dim(3).dim_value(), 3);
        ASSERT_EQ(model.graph().output_size(), 1);
        EXPECT_EQ(model.graph().output(0).type().tensor_type().shape().dim(1).dim_value(), 3);
    }
}

// On tiles of the demo, with a classifier that has learned something.
TEST(PreparedExport, GivesTheProbabilitiesOfClassify) {
    const test::TemporaryDirectory directory;
    const std::filesystem::path file = directory / "prepared.onnx";
    const std::filesystem::path demo = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "demo";
    Classifier classifier = load_classifier(demo / "backbone.onnx");
    classifier.temperature = 1.37;
    const std::int64_t bytes = save_prepared_classifier(file, classifier);
    EXPECT_EQ(bytes, static_cast<std::int64_t>(std::filesystem::file_size(file)));
    const Classifier again = load_classifier(file);
    EXPECT_EQ(again.classes, classifier.classes);
    EXPECT_EQ(again.temperature, classifier.temperature);
    Inference inference(again.network, 1);
    const auto classes = classifier.classes.size();
    int images = 0;
    for (const auto& one : std::filesystem::recursive_directory_iterator(demo / "sample")) {
        if (!one.is_regular_file() || images == 12) continue;
        ++images;
        const Image image =
            decode_image(read_file(one.path()), {.background = classifier.preparation.fitting.background});
        const std::vector<std::uint8_t> fitted =
            fit_image(read_file(one.path()), classifier.preparation.fitting);
        const std::vector<float> expected = classify(classifier, {&fitted, 1});
        EXPECT_EQ(classify(again, {&fitted, 1}), expected);
        // What another reader does: the nodes before the network, the network, division and softmax in float.
        const std::vector<float> first = prepared_by_file(file, image.pixels, image.height, image.width);
        std::vector<float> last(first.size());
        for (std::size_t i = 0; i < first.size(); ++i)
            last[i % (first.size() / 3) * 3 + i / (first.size() / 3)] = first[i];
        const auto logits = inference.run(1, last);
        float sum = 0.0F;
        for (std::size_t c = 0; c < classes; ++c) sum += std::exp(logits[c] / 1.37F);
        for (std::size_t c = 0; c < classes; ++c)
            EXPECT_NEAR(std::exp(logits[c] / 1.37F) / sum, expected[c], 1e-5);
    }
    EXPECT_EQ(images, 12);
    // Its nodes are what the comment says.
    const onnx::ModelProto model = parsed(file);
    const auto& nodes = model.graph().node();
    EXPECT_EQ(nodes[nodes.size() - 1].op_type(), "Softmax");
    EXPECT_EQ(nodes[nodes.size() - 2].op_type(), "Div");
}

TEST(PreparedExport, OfAnotherFileNothingIsPrepared) {
    const test::TemporaryDirectory directory;
    const Classifier classifier = made_up({.size = 8}, 1.0);
    save_classifier(directory / "plain.onnx", classifier);
    const Image image = noise(8, 8);
    EXPECT_THROW(prepared_by_file(directory / "plain.onnx", image.pixels, 8, 8), InputError);
    EXPECT_THROW(save_prepared_classifier(directory / "none" / "x.onnx", classifier), WorkError);
    EXPECT_FALSE(std::filesystem::exists(directory / "none"));
    // Damaged notes about where the network stands.
    Model model{.network = classifier.network, .metadata = {{"jevrin.network", "{\"input\": 3}"}}};
    write_model(directory / "damaged.onnx", model);
    EXPECT_THAT(test::message_of<InputError>([&] { read_model(directory / "damaged.onnx"); }),
                testing::HasSubstr("'jevrin.network' is damaged"));
    model.metadata["jevrin.network"] =
        R"({"input": "nothing", "output": "nothing", "shape": [3, -1, 9999999]})";
    write_model(directory / "damaged.onnx", model);
    EXPECT_THROW(read_model(directory / "damaged.onnx"), InputError);
}

}  // namespace
}  // namespace jevrin
