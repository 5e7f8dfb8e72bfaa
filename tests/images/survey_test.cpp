// What a survey counts, by hand.
#include "jevrin/images/survey.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

namespace jevrin {
namespace {

TEST(Survey, CountsSizesShapesAndConflicts) {
    const test::TemporaryDirectory directory;
    const auto write = [&](const std::string& name, const Image& image) {
        make_directory((directory / name).parent_path());
        write_file(directory / name, encode_png(image));
    };
    write("a/1.png", test::small_picture(0, 1, 40));
    write("a/2.png", resize(test::small_picture(0, 2, 40), 20, 40));
    write("a/3.png", resize(test::small_picture(1, 3, 40), 80, 40));
    write("b/copy.png", test::small_picture(0, 1, 40));
    write("b/larger.png", resize(test::small_picture(0, 1, 40), 60, 60));
    const Survey survey = survey_images(read_image_set({.from = directory.path()}));
    EXPECT_THAT(survey.counts, testing::ElementsAre(3, 2));
    EXPECT_EQ(survey.majority_accuracy, 0.6);
    EXPECT_EQ(survey.imbalance, 1.5);
    EXPECT_EQ(survey.smallest_item, 1U);
    EXPECT_EQ(survey.largest_item, 4U);
    EXPECT_EQ(survey.width.smallest, 20.0);
    EXPECT_EQ(survey.width.median, 40.0);
    EXPECT_EQ(survey.aspect.largest, 2.0);
    EXPECT_EQ(survey.upright, 1);
    EXPECT_EQ(survey.wide, 1);
    EXPECT_EQ(survey.colour, 5);
    EXPECT_EQ(survey.duplicates, (std::vector<std::vector<std::size_t>>{{0, 3}}));
    ASSERT_EQ(survey.near_duplicates.size(), 1U);
    EXPECT_EQ(survey.near_duplicates[0].second, 4U);
    ASSERT_EQ(survey.label_conflicts.size(), 2U);
    EXPECT_EQ(survey.label_conflicts[0].first, 0U);
    EXPECT_EQ(survey.label_conflicts[0].second, 3U);
    EXPECT_EQ(survey.label_conflicts[1].second, 4U);
}

}  // namespace
}  // namespace jevrin
