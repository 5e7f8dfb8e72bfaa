// Sheets of pictures, and what layers see.
#include "figures/ink.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/figures/layer_images.hpp"
#include "jevrin/figures/sheet.hpp"

namespace jevrin {
namespace {

using test::inked;
using test::TemporaryDirectory;
using testing::HasSubstr;

TEST(Sheet, AnyNumberOfPicturesGoesOnPages) {
    const TemporaryDirectory directory;
    std::vector<std::size_t> asked;
    const auto images = [&](std::size_t k) {
        asked.push_back(k);
        return CaptionedImage{.image = test::small_picture(k % 3, k, 16 + static_cast<std::int64_t>(k % 40)),
                              .lines = {"0.93 blisters", "a very long label that does not fit", "file.png"},
                              .wrong = k % 2 == 0};
    };
    const auto files = draw_pages(130, images, "pages", directory / "sheet.png");
    EXPECT_EQ(files, (std::vector<std::filesystem::path>{directory / "sheet.png", directory / "sheet-2.png",
                                                         directory / "sheet-3.png"}));
    std::vector<std::size_t> in_order(130);
    std::iota(in_order.begin(), in_order.end(), std::size_t{0});
    EXPECT_EQ(asked, in_order);
    EXPECT_GT(inked(files[0]), 100'000);
    EXPECT_GT(inked(files[2]), 3'000);
    EXPECT_EQ(draw_pages(0, images, "nothing", directory / "none.png").size(), 1U);
}

TEST(Sheet, ShowsARandomSampleOfEachClass) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "set", {"a", "b", "c"}, 7);
    const ImageSet set = read_image_set({.from = directory / "set"});
    const auto rows = sample_rows(set, 5, 1);
    ASSERT_EQ(rows.size(), 3U);
    EXPECT_EQ(rows[1].label, "b (7)");
    EXPECT_EQ(rows[1].images.size(), 5U);
    EXPECT_NE(sample_rows(set, 5, 2)[1].images[0].pixels, rows[1].images[0].pixels);
    draw_sheet(rows, "t", directory / "s.png");
    EXPECT_GT(inked(directory / "s.png"), 3 * 5 * 150 * 150);
    // Digits after a parenthesis are letters of the label, not of a code.
    draw_sheet(rows, "blisters (128), 'x'", directory / "s.svg");
    const std::string drawn = read_text(directory / "s.svg");
    EXPECT_THAT(drawn, HasSubstr("b (7)"));
    EXPECT_THAT(drawn, HasSubstr("blisters (128), "));
}

TEST(Sheet, ShowsWhatTheNetworkSeesBesideEachPicture) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "set", {"a", "b"}, 4);
    const ImageSet set = read_image_set({.from = directory / "set"});
    const auto plain = sample_rows_before_and_after(set, 2, 1, {.size = 24, .fit = Fit::stretch}, {});
    ASSERT_EQ(plain[0].images.size(), 4U);
    EXPECT_EQ(plain[0].images[1].pixels, resize(plain[0].images[0], 24, 24).pixels);
    const auto grey = sample_rows_before_and_after(set, 2, 1, {.size = 24, .channels = 1}, {.erase = 1.0});
    const Image& seen = grey[1].images[3];
    EXPECT_EQ(seen.pixels[0], seen.pixels[2]);
    EXPECT_NE(seen.pixels,
              sample_rows_before_and_after(set, 2, 1, {.size = 24, .channels = 1}, {})[1].images[3].pixels);
}

TEST(LayerImages, FiltersAreInColourOrSums) {
    // Two filters of 1x2 on three channels: the second is 1 in red at the left and -1 in blue at the right.
    Tensor filters({1, 2, 3, 2});
    filters.data()[1] = 1.0F;
    filters.data()[2 * (3 + 2) + 1] = -1.0F;
    const SheetRow colour = filter_images(filters, 9);
    EXPECT_EQ(colour.label, "first filters: 2 of 2, 1x2 on 3 channels");
    ASSERT_EQ(colour.images.size(), 2U);
    const auto corner = [](const Image& image, bool right) {
        const std::uint8_t* const p = image.at(right ? image.width - 1 : 0, 0);
        return std::vector<int>{p[0], p[1], p[2]};
    };
    EXPECT_THAT(corner(colour.images[0], false), testing::ElementsAre(128, 128, 128));
    EXPECT_THAT(corner(colour.images[1], false), testing::ElementsAre(255, 128, 128));
    EXPECT_THAT(corner(colour.images[1], true), testing::ElementsAre(128, 128, 0));
    // On two channels the sum: 1 and 2.
    const SheetRow sums = filter_images(Tensor({1, 2, 2, 1}, std::vector<float>{0.5F, 0.5F, 3.0F, -1.0F}), 9);
    EXPECT_THAT(corner(sums.images[0], false), testing::ElementsAre(191, 191, 191));
    EXPECT_THAT(corner(sums.images[0], true), testing::ElementsAre(255, 255, 255));
}

TEST(LayerImages, MapsThatVaryMostComeFirstAndTokensShowTheirLength) {
    // Maps of 1x2: the first is constant, the second falls, the third rises more.
    const StageActivation maps{.stage = "stage1",
                               .values = Tensor({1, 2, 3}, std::vector<float>{5, 2, 0, 5, 1, 9})};
    const SheetRow row = map_images(maps, 2);
    EXPECT_EQ(row.label, "stage1: 1x2x3, the 2 maps that vary most");
    ASSERT_EQ(row.images.size(), 2U);
    const auto left = [](const Image& image) { return image.at(0, 0)[0]; };
    const auto right = [](const Image& image) { return image.at(image.width - 1, 0)[0]; };
    EXPECT_EQ(left(row.images[0]), 0);
    EXPECT_EQ(right(row.images[0]), 255);
    EXPECT_EQ(left(row.images[1]), 255);
    EXPECT_EQ(right(row.images[1]), 0);
    // A class token, and four patches of which the last is the longest.
    const StageActivation tokens{.stage = "blocks",
                                 .values = Tensor({5, 2}, std::vector<float>{9, 9, 0, 0, 0, 0, 0, 0, 3, 4})};
    const SheetRow lengths = map_images(tokens, 2);
    EXPECT_EQ(lengths.label, "blocks: 5x2, length of each token");
    ASSERT_EQ(lengths.images.size(), 1U);
    const Image& square = lengths.images[0];
    EXPECT_EQ(square.at(square.width - 1, square.height - 1)[0], 255);
    EXPECT_EQ(square.at(square.width - 1, 0)[0], 0);
    // Tokens of no square, single pixels and vectors have no picture.
    for (const Shape& shape : {Shape{7, 2}, Shape{1, 1, 4}, Shape{4}})
        EXPECT_TRUE(map_images({.stage = "s", .values = Tensor(shape)}, 2).images.empty());
}

}  // namespace
}  // namespace jevrin
