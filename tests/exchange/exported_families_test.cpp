// Published families of networks in the styles and operator sets of exporters: read alike, their stages and
// features found, written and read back.
#include "support/exported_model.hpp"
#include "support/support.hpp"

#include "jevrin/exchange/model_file.hpp"
#include "jevrin/graph/feature_place.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin {
namespace {

using test::ExportedEnd;
using test::ExportedFamily;
using test::ExportSettings;
using test::NamingStyle;

Network read_exported(const ExportSettings& settings, const ReadSettings& reading = {}) {
    const test::TemporaryDirectory directory;
    test::write_exported_model(directory / "m.onnx", settings);
    return read_model(directory / "m.onnx", reading).network;
}

void expect_close(const std::vector<float>& a, const std::vector<float>& b) {
    ASSERT_EQ(a.size(), b.size());
    float largest = 0.0F;
    for (const float v : b) largest = std::max(largest, std::abs(v));
    for (std::size_t i = 0; i < a.size(); ++i) ASSERT_NEAR(a[i], b[i], 1e-5F * largest) << i;
}

class ExportedFamilies : public testing::TestWithParam<ExportedFamily> {};

TEST_P(ExportedFamilies, EveryStyleAndSetIsTheSameNetworkAndComesBackFromAFile) {
    const Tensor images = test::random_tensor({2, 32, 32, 3}, 5);
    std::vector<float> expected;
    for (const NamingStyle style : test::all_naming_styles)
        for (const int opset : {11, 13, 17, 20, 22}) {
            SCOPED_TRACE(fmt::format("{} {}", test::name_of(style), opset));
            const Network network = read_exported({.family = GetParam(), .style = style, .opset = opset});
            const std::vector<float> own = test::outputs_of(network, 2, images);
            ASSERT_EQ(own.size(), 14U);
            if (expected.empty()) expected = own;
            expect_close(own, expected);
            const test::TemporaryDirectory directory;
            write_model(directory / "again.onnx", {network, {}});
            const Network again = read_model(directory / "again.onnx").network;
            expect_close(test::outputs_of(again, 2, images), expected);
            EXPECT_EQ(parameter_count(again), parameter_count(network));
        }
}

TEST_P(ExportedFamilies, FeaturesAreThoseBeforeTheClassesOrTheOutputItself) {
    const Tensor images = test::random_tensor({1, 32, 32, 3}, 6);
    for (const NamingStyle style : test::all_naming_styles) {
        SCOPED_TRACE(test::name_of(style));
        std::vector<float> expected;
        for (const ExportedEnd end : {ExportedEnd::classes, ExportedEnd::features}) {
            const Network network =
                read_exported({.family = GetParam(), .style = style, .opset = 17, .end = end});
            const FeaturePlace place = find_features(network);
            const Network backbone = without_head(network, place);
            EXPECT_EQ(infer_shapes(backbone).back(), (Shape{test::feature_width(GetParam())})) << place.why;
            EXPECT_EQ(place.head == 0, end == ExportedEnd::features) << place.why;
            const std::vector<float> own = test::outputs_of(backbone, 1, images);
            if (expected.empty()) expected = own;
            expect_close(own, expected);
        }
        const Network values =
            read_exported({.family = GetParam(), .style = style, .end = ExportedEnd::values});
        const FeaturePlace place = find_features(values);
        EXPECT_EQ(place.node, values.nodes.size() - 1) << place.why;
        EXPECT_EQ(infer_shapes(without_head(values, place)).back().size(), 1U);
    }
}

INSTANTIATE_TEST_SUITE_P(All, ExportedFamilies, testing::ValuesIn(test::all_exported_families),
                         [](const auto& family) { return test::name_of(family.param); });

}  // namespace
}  // namespace jevrin
