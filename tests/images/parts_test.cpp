// Divisions: what stays together, what stays where it was, and what is said.
#include "jevrin/images/parts.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/near_duplicates.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>

#include <bit>
#include <cmath>
#include <set>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

// A set without files: contents and likenesses are numbers, far apart unless a test brings them together.
ImageSet made_up_set(const std::vector<int>& per_class) {
    ImageSet set;
    set.root = "made up";
    std::uint64_t number = 0;
    for (std::size_t c = 0; c < per_class.size(); ++c) {
        set.classes.push_back(std::string(1, static_cast<char>('a' + c)));
        for (int i = 0; i < per_class[c]; ++i) {
            RandomStream random({3, Purpose::sample, 0, ++number});
            Item item{.path = fmt::format("{}/{}.png", set.classes.back(), i), .label = c};
            item.content = {0, number};
            item.id = item.path + "#" + item.content.text();
            for (std::uint64_t& bits : item.perceptual_hash) bits = random.bits64();
            set.items.push_back(item);
        }
    }
    return set;
}

std::vector<int> sizes_by_class(const ImageSet& set, const std::vector<std::size_t>& items) {
    std::vector<int> sizes(set.classes.size(), 0);
    for (const std::size_t item : items) ++sizes[set.items[item].label];
    return sizes;
}

// The part of each item: 0 to 2, -1 for none.
std::vector<int> part_of_items(const ImageSet& set, const Parts& parts) {
    std::vector<int> result(set.items.size(), -1);
    for (const Part part : all_parts)
        for (const std::size_t item : parts.of(part)) {
            EXPECT_EQ(result[item], -1);
            result[item] = static_cast<int>(part);
        }
    return result;
}

TEST(Division, ByNumbersOfImagesPerClass) {
    const ImageSet set = made_up_set({30, 50});
    const Parts rest =
        split_into_parts(set, {.by = PartsBy::counts, .training = 0, .validation = 4, .test = 6});
    EXPECT_THAT(sizes_by_class(set, rest.training), testing::ElementsAre(20, 40));
    EXPECT_THAT(sizes_by_class(set, rest.validation), testing::Each(4));
    EXPECT_THAT(sizes_by_class(set, rest.test), testing::Each(6));
    const Parts few =
        split_into_parts(set, {.by = PartsBy::counts, .training = 5, .validation = 4, .test = 0});
    EXPECT_THAT(sizes_by_class(set, few.training), testing::Each(5));
    EXPECT_TRUE(few.test.empty());
    EXPECT_THAT(message_of<InputError>([&] {
                    split_into_parts(set,
                                     {.by = PartsBy::counts, .training = 0, .validation = 25, .test = 6});
                }),
                HasSubstr("class 'a' has 30 images, too few for the counts"));
}

TEST(Division, FoldsAreDisjointAndCoverAllButTheTestPart) {
    const ImageSet set = made_up_set({20, 40});
    PartsSettings settings{.by = PartsBy::folds, .test = 0.2, .folds = 4};
    std::set<std::size_t> validated;
    std::vector<std::size_t> test;
    for (settings.fold = 1; settings.fold <= 4; ++settings.fold) {
        const Parts parts = split_into_parts(set, settings);
        EXPECT_THAT(sizes_by_class(set, parts.validation), testing::ElementsAre(4, 8));
        EXPECT_EQ(parts.training.size(), 36U);
        for (const std::size_t item : parts.validation) {
            EXPECT_TRUE(validated.insert(item).second);
            EXPECT_EQ(parts.folds[item], settings.fold);
        }
        for (const std::size_t item : parts.test) EXPECT_EQ(parts.folds[item], 0);
        for (const std::size_t item : parts.training) EXPECT_NE(parts.folds[item], settings.fold);
        if (settings.fold > 1) {
            EXPECT_EQ(parts.test, test);
        }
        // From each fold to the next one.
        PartsSettings next = settings;
        next.fold = settings.fold % 4 + 1;
        EXPECT_EQ(parts.with_fold(next.fold).validation, split_into_parts(set, next).validation);
        EXPECT_EQ(parts.with_fold(next.fold).training, split_into_parts(set, next).training);
        test = parts.test;
    }
    EXPECT_EQ(validated.size() + test.size(), set.items.size());
}

TEST(Division, GroupsStayTogether) {
    ImageSet set = made_up_set({60, 60});
    for (std::size_t i = 0; i < set.items.size(); ++i)
        set.items[i].group = fmt::format("object {}", i / 5 % 12);
    const Parts parts = split_into_parts(set);
    const std::vector<int> part = part_of_items(set, parts);
    std::map<std::string, std::set<int>> parts_of_group;
    for (std::size_t i = 0; i < set.items.size(); ++i) parts_of_group[set.items[i].group].insert(part[i]);
    for (const auto& [group, in] : parts_of_group) EXPECT_EQ(in.size(), 1U) << group;
    // As near to 60, 20 and 20 % as groups of ten allow.
    EXPECT_EQ(parts.training.size() + parts.validation.size() + parts.test.size(), 120U);
    EXPECT_NEAR(static_cast<double>(parts.training.size()), 72.0, 10.0);
    for (Item& item : set.items) item.group = item.label == 0 ? "one" : item.group;
    EXPECT_THAT(message_of<InputError>([&] { split_into_parts(set); }),
                AllOf(HasSubstr("class 'a' has 1 image and the plan splits them into 3 parts"),
                      HasSubstr("those of one group, count once")));
}

TEST(Division, NearDuplicatesShareAPartAndThatIsSaid) {
    ImageSet set = made_up_set({40, 40});
    for (std::size_t i = 0; i < 30; i += 2) {
        set.items[i + 1].perceptual_hash = set.items[i].perceptual_hash;
        for (std::size_t bit = 0; bit < near_duplicate_distance; ++bit)
            set.items[i + 1].perceptual_hash[bit % 4] ^= std::uint64_t{1} << (7 * bit % 64);
        ASSERT_LE(distance(set.items[i].perceptual_hash, set.items[i + 1].perceptual_hash),
                  near_duplicate_distance);
    }
    const auto pairs_kept = [&](const Parts& parts) {
        const std::vector<int> part = part_of_items(set, parts);
        int kept = 0;
        for (std::size_t i = 0; i < 30; i += 2) kept += part[i] == part[i + 1] ? 1 : 0;
        return kept;
    };
    EXPECT_EQ(near_duplicates(set).size(), 15U);
    const Parts together = split_into_parts(set);
    EXPECT_EQ(pairs_kept(together), 15);
    EXPECT_THAT(together.notes,
                testing::ElementsAre(AllOf(HasSubstr("15 pairs"), HasSubstr("a/0.png and a/1.png"))));
    const Parts apart = split_into_parts(set, {.group_near_duplicates = false});
    EXPECT_LT(pairs_kept(apart), 15);
    EXPECT_TRUE(apart.notes.empty());
}

TEST(Division, AddedImagesGoToNewPlacesAndOldOnesStay) {
    const ImageSet small = made_up_set({30, 30});
    const Parts before = split_into_parts(small);
    KnownPlaces known;
    for (const Part part : all_parts)
        for (const std::size_t item : before.of(part)) known[small.items[item].content] = {part, 0};
    ImageSet larger = small;
    for (Item item : made_up_set({90, 90}).items) {
        item.content.high = 1;  // other images
        item.path = "new-" + item.path;
        item.id = item.path + "#" + item.content.text();
        for (std::uint64_t& bits : item.perceptual_hash) bits = std::rotl(bits, 13) * 0x9E3779B97F4A7C15ULL;
        larger.items.push_back(item);
    }
    larger.items[3].path = "a/renamed.png";  // the same image under another name
    const Parts after = split_into_parts(larger, {}, known);
    const std::vector<int> old_place = part_of_items(small, before);
    const std::vector<int> new_place = part_of_items(larger, after);
    for (std::size_t i = 0; i < small.items.size(); ++i) EXPECT_EQ(new_place[i], old_place[i]) << i;
    EXPECT_THAT(sizes_by_class(larger, after.training), testing::Each(72));
    EXPECT_THAT(sizes_by_class(larger, after.validation), testing::Each(24));
    // Without what was known, old ones would move.
    EXPECT_NE(part_of_items(larger, split_into_parts(larger)), new_place);
}

TEST(Division, GivenPartsStandAndTheirLeaksAreSaid) {
    ImageSet set = made_up_set({10, 10});
    for (std::size_t i = 0; i < set.items.size(); ++i)
        set.items[i].part = i % 5 == 0 ? Part::test : i % 5 == 1 ? Part::validation : Part::training;
    const PartsSettings given{.by = PartsBy::given, .validation = 0.0};
    const Parts parts = split_into_parts(set, given);
    EXPECT_EQ(parts.training.size(), 12U);
    EXPECT_THAT(parts.test, testing::ElementsAre(0, 5, 10, 15));
    EXPECT_TRUE(parts.notes.empty());
    set.items[2].content = set.items[0].content;
    EXPECT_THAT(split_into_parts(set, given).notes,
                testing::ElementsAre(AllOf(HasSubstr("the given parts leak: 1 image is in two parts"),
                                           HasSubstr("a/0.png (test) and a/2.png (training)"))));
    for (Item& item : set.items)
        if (item.part == Part::validation) item.part = Part::training;
    EXPECT_THAT(message_of<InputError>([&] { split_into_parts(set, given); }),
                HasSubstr("it has no validation part; split one off"));
    const Parts carved = split_into_parts(set, {.by = PartsBy::given, .validation = 0.25});
    EXPECT_EQ(carved.validation.size(), 4U);
    EXPECT_EQ(carved.training.size(), 12U);
    EXPECT_EQ(carved.test.size(), 4U);
    set.items[10].part = set.items[15].part = Part::training;
    EXPECT_THAT(
        message_of<InputError>([&] { split_into_parts(set, {.by = PartsBy::given, .validation = 0.25}); }),
        HasSubstr("the given test part has no image of class 'b'"));
}

TEST(PerceptualHash, HoldsTheSignsOfTheCosineTransform) {
    // A wave along x alone has the frequencies (0, 3); along y alone, (5, 0). Bit v * 16 + u is of (v, u).
    const auto of = [](int along_x, int along_y, double height) {
        std::vector<std::uint8_t> grey;
        for (int y = 0; y < 32; ++y)
            for (int x = 0; x < 32; ++x) {
                const double wave = std::cos(M_PI * (2 * x + 1) * along_x / 64.0) *
                                    std::cos(M_PI * (2 * y + 1) * along_y / 64.0);
                grey.push_back(static_cast<std::uint8_t>(std::lround(128 + height * wave)));
            }
        return perceptual_hash_of(grey);
    };
    const auto bit = [](const PerceptualHash& hash, int v, int u) {
        const auto place = static_cast<std::size_t>(16 * v + u);
        return (hash[place / 64] >> (place % 64) & 1U) == 1U;
    };
    EXPECT_TRUE(bit(of(3, 0, 100), 0, 3));
    EXPECT_FALSE(bit(of(3, 0, -100), 0, 3));
    EXPECT_TRUE(bit(of(0, 5, 100), 5, 0));
    EXPECT_TRUE(bit(of(15, 15, 100), 15, 15));
    EXPECT_FALSE(bit(of(15, 15, -100), 15, 15));
    // Nothing along y, and no brightness.
    const PerceptualHash along_x = of(3, 0, 100);
    EXPECT_EQ(along_x[0] & 1U, 0U);
    EXPECT_EQ(along_x[0] >> 16U, 0U);
    EXPECT_EQ(along_x[1] | along_x[2] | along_x[3], 0U);
}

TEST(PerceptualHash, CopiesAreNearAndOtherPicturesFar) {
    const test::TemporaryDirectory directory;
    test::write_small_set(directory.path(), {"a", "b"}, 1);
    const auto perceptual_hash = [](const Image& image) {
        return perceptual_hash_of(
            fit_image(image, {.size = hash_image_side, .fit = Fit::stretch, .channels = 1}));
    };
    // An image with structure at all scales.
    Image image(120, 100);
    for (int wave = 0; wave < 60; ++wave) {
        RandomStream random({9, Purpose::sample, 0, static_cast<std::uint64_t>(wave)});
        const auto x0 = static_cast<std::int64_t>(random.below(120));
        const auto y0 = static_cast<std::int64_t>(random.below(100));
        const auto side = static_cast<std::int64_t>(4 + random.below(30));
        for (std::int64_t y = y0; y < std::min<std::int64_t>(100, y0 + side); ++y)
            for (std::int64_t x = x0; x < std::min<std::int64_t>(120, x0 + side); ++x)
                for (int c = 0; c < 3; ++c) image.at(x, y)[c] = static_cast<std::uint8_t>(40 + 3 * wave);
    }
    const PerceptualHash own = perceptual_hash(image);
    EXPECT_LE(distance(own, perceptual_hash(resize(image, 60, 50))), near_duplicate_distance);
    EXPECT_LE(distance(own, perceptual_hash(decode_image(encode_jpeg(image, 80)))), near_duplicate_distance);
    Image brighter = image;
    for (std::uint8_t& v : brighter.pixels) v = static_cast<std::uint8_t>(v + 20);
    EXPECT_LE(distance(own, perceptual_hash(brighter)), near_duplicate_distance);
    EXPECT_GT(distance(own, perceptual_hash(test::small_picture(0, 1, 100))), 60);
    EXPECT_GT(distance(perceptual_hash(test::small_picture(0, 1, 64)),
                       perceptual_hash(test::small_picture(1, 2, 64))),
              60);
}

// Below and above the size from which larger blocks of the hashes are compared.
class NearDuplicates : public testing::TestWithParam<int> {};
INSTANTIATE_TEST_SUITE_P(Sizes, NearDuplicates, testing::Values(300, 31'000),
                         testing::PrintToStringParamName());

PerceptualHash with_bits_changed(PerceptualHash hash, int bits, RandomStream& random) {
    std::set<std::uint32_t> changed;
    while (std::ssize(changed) < bits) changed.insert(random.below(256));
    for (const std::uint32_t bit : changed) hash[bit / 64] ^= std::uint64_t{1} << (bit % 64);
    return hash;
}

TEST_P(NearDuplicates, AreEveryPairWithinTheDistanceAndNoOther) {
    ImageSet set = made_up_set({GetParam()});
    RandomStream random({5, Purpose::sample, 1, 0});
    std::set<std::pair<std::size_t, std::size_t>> expected;
    for (std::size_t i = 0; i + 1 < 200; i += 2) {
        const int bits = static_cast<int>(random.below(2 * near_duplicate_distance + 2));
        set.items[i + 1].perceptual_hash = with_bits_changed(set.items[i].perceptual_hash, bits, random);
        if (bits <= near_duplicate_distance) expected.emplace(i, i + 1);
    }
    std::set<std::pair<std::size_t, std::size_t>> found;
    for (const NearDuplicate& pair : near_duplicates(set)) found.emplace(pair.first, pair.second);
    EXPECT_EQ(found, expected);
    // Images of one colour say nothing about each other.
    for (Item& item : set.items) item.perceptual_hash = {};
    EXPECT_TRUE(near_duplicates(set).empty());
}

TEST_P(NearDuplicates, ConnectManyShotsOfAFewScenes) {
    ImageSet set = made_up_set({GetParam()});
    RandomStream random({6, Purpose::sample, 1, 0});
    constexpr std::size_t scenes = 5;
    for (std::size_t i = scenes; i < set.items.size(); ++i)
        set.items[i].perceptual_hash =
            with_bits_changed(set.items[i % scenes].perceptual_hash, near_duplicate_distance / 2, random);
    EXPECT_EQ(near_duplicates(set).size(), set.items.size() - scenes);
    const std::vector<std::size_t> units = find_units(set, true);
    for (std::size_t i = 0; i < units.size(); ++i) EXPECT_EQ(units[i], i % scenes);
}

TEST_P(NearDuplicates, TellHowFarTheSearchIsAndStopWhenAsked) {
    const ImageSet set = made_up_set({GetParam()});
    std::int64_t steps = 0;
    std::int64_t last = 0;
    near_duplicates(set, [&](std::int64_t done, std::int64_t total) {
        EXPECT_EQ(done, ++steps);
        last = total;
    });
    EXPECT_GT(last, 10);
    EXPECT_EQ(steps, last);
    const ImageSet other = made_up_set({GetParam()});
    EXPECT_THROW(near_duplicates(other, [](std::int64_t, std::int64_t) { throw Interrupted("stop"); }),
                 Interrupted);
    EXPECT_TRUE(near_duplicates(other).empty());
}

}  // namespace
}  // namespace jevrin
