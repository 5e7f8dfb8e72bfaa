// Damaged files by the hundred: every one decodes or is refused with a message, and nothing is read outside
// the bytes (the address sanitizer watches).
#include "jevrin/images/decoding.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"

namespace jevrin {
namespace {

TEST(Decoding, DamagedBytesDecodeOrAreRefused) {
    RandomStream random({6, Purpose::sample, 0, 0});
    int refused = 0;
    for (const auto& whole :
         {encode_png(test::small_picture(1, 5, 40)), encode_jpeg(test::small_picture(1, 5, 40), 80)})
        for (int round = 0; round < 400; ++round) {
            std::vector<std::byte> bytes = whole;
            const std::uint32_t changes = 1 + random.below(4);
            for (std::uint32_t k = 0; k < changes; ++k)
                bytes[8 + random.below(static_cast<std::uint32_t>(bytes.size() - 8))] =
                    static_cast<std::byte>(random.below(256));
            try {
                const Image image = decode_image(bytes);
                EXPECT_EQ(static_cast<std::int64_t>(image.pixels.size()), image.width * image.height * 3);
            } catch (const InputError& error) {
                EXPECT_THAT(std::string(error.what()), testing::StartsWith("it "));
                ++refused;
            }
        }
    EXPECT_GT(refused, 200);
}

// The same filter in double, straight from its definition.
std::vector<double> reference_resize(const Image& image, std::int64_t width, std::int64_t height) {
    const auto weight = [](std::int64_t in, std::int64_t out, std::int64_t i, std::int64_t o) {
        const double scale = static_cast<double>(in) / static_cast<double>(out);
        const double reach = std::max(1.0, scale);
        const double centre = (static_cast<double>(o) + 0.5) * scale;
        return std::max(0.0, 1.0 - std::abs(static_cast<double>(i) + 0.5 - centre) / reach);
    };
    std::vector<double> result;
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x)
            for (std::int64_t c = 0; c < 3; ++c) {
                double sum = 0;
                double total = 0;
                for (std::int64_t j = 0; j < image.height; ++j)
                    for (std::int64_t i = 0; i < image.width; ++i) {
                        const double w =
                            weight(image.width, width, i, x) * weight(image.height, height, j, y);
                        sum += w * image.at(i, j)[c];
                        total += w;
                    }
                result.push_back(sum / total);
            }
    return result;
}

TEST(Resize, AgreesWithItsDefinitionOverManySizes) {
    RandomStream random({7, Purpose::sample, 0, 0});
    for (int round = 0; round < 40; ++round) {
        Image image(1 + random.below(24), 1 + random.below(24));
        for (std::uint8_t& v : image.pixels) v = static_cast<std::uint8_t>(random.below(256));
        const std::int64_t width = 1 + random.below(24);
        const std::int64_t height = 1 + random.below(24);
        const Image ours = resize(image, width, height);
        const std::vector<double> expected = reference_resize(image, width, height);
        for (std::size_t i = 0; i < expected.size(); ++i)
            ASSERT_NEAR(ours.pixels[i], expected[i], 0.6)
                << image.width << "x" << image.height << " to " << width << "x" << height;
    }
}

}  // namespace
}  // namespace jevrin
