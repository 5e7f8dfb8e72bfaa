// What a survey counts, by hand.
#include "jevrin/images/survey.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

#include <set>

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

TEST(Survey, NamesSuggestGroupsThatWouldLeakBetweenParts) {
    const auto groups_of = [](const std::vector<std::string>& classes,
                              const std::function<std::string(int object, int image)>& name,
                              int objects = 12) {
        ImageSet set;
        set.classes = classes;
        for (std::size_t label = 0; label < classes.size(); ++label)
            for (int object = 0; object < objects; ++object)
                for (int image = 0; image < 3; ++image)
                    set.items.push_back({.path = classes[label] + "/" +
                                                 name(object + 100 * static_cast<int>(label), image) + ".png",
                                         .label = label});
        return find_name_groups(set);
    };
    const std::vector<std::string> two = {"fine-cloth", "torn.cloth"};
    const auto bolts = groups_of(two, [](int o, int i) { return fmt::format("bolt{:03}-{}", o, i); });
    EXPECT_EQ(bolts.groups, 24);
    EXPECT_EQ(bolts.images, 72);
    EXPECT_EQ(bolts.first, "fine-cloth/bolt000-0.png");
    EXPECT_EQ(bolts.second, "fine-cloth/bolt000-1.png");
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("IMG_{} ({})", o, i); }).groups, 24);
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("a_b_{}.{}", o, i); }).groups, 24);
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("{}{}", o, "xyz"[i]); }).groups, 24);
    // Numbers that begin anew in each folder are other objects.
    const auto anew = groups_of(two, [](int o, int i) { return fmt::format("{}_{}", o % 100, i); });
    EXPECT_EQ(anew.groups, 24);
    EXPECT_THAT(anew.pattern, testing::StartsWith("([^/]+/"));
    // A running number, a class, few objects and large ones are none.
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("tile-{}", 3 * o + i); }).pattern, "");
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("{}", 3 * o + i); }).pattern, "");
    EXPECT_EQ(groups_of({"a", "b", "c", "d", "e", "f", "g", "h", "i", "j", "k", "l"},
                        [](int o, int i) { return fmt::format("class{}_{}", o / 100, 3 * (o % 100) + i); })
                  .pattern,
              "");
    EXPECT_EQ(groups_of(
                  two, [](int o, int i) { return fmt::format("{}-{}", o, i); }, 4)
                  .pattern,
              "");
    EXPECT_EQ(groups_of(two, [](int o, int i) { return fmt::format("{}-{}", 3 * o + i, 800); }).pattern, "");
    const auto with_scenes = [](int o, int i) {  // ten objects of three images; one place has all others
        return o % 100 < 10 ? fmt::format("bolt{}-{}", o, i) : fmt::format("yard-{}", 3 * o + i);
    };
    EXPECT_NE(groups_of(two, with_scenes, 11).pattern, "");
    EXPECT_EQ(groups_of(two, with_scenes, 14).pattern, "");
}

TEST(Survey, TheSuggestedPatternMakesTheGroups) {
    const test::TemporaryDirectory directory;
    for (const std::string label : {"a", "b"}) {
        make_directory(directory / label);
        for (int image = 0; image < 40; ++image)
            write_file(directory / (label + fmt::format("/{}{:02}_{}.png", label, image / 2, image % 2)),
                       encode_png(test::small_picture(label == "a" ? 0 : 1, image, 12)));
    }
    const ImageSet set = read_image_set({.from = directory.path()});
    const NameGroups found = find_name_groups(set);
    ASSERT_NE(found.pattern, "");
    EXPECT_THAT(name_groups_note(found), testing::HasSubstr("80 images may show 40 objects"));
    const ImageSet grouped = read_image_set({.from = directory.path(), .group_pattern = found.pattern});
    std::set<std::string> groups;
    for (const Item& item : grouped.items) groups.insert(item.group);
    EXPECT_EQ(groups.size(), 40U);
    EXPECT_THAT(groups, testing::Contains("a03"));
    EXPECT_EQ(find_name_groups(grouped).pattern, "") << "what has groups needs no suggestion";
}

}  // namespace
}  // namespace jevrin
