// Where image sets come from: folders, parts, indexes, arrays, corrections; and all that is wrong with them.
#include "support/encoded_images.hpp"
#include "support/support.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>
#include <sys/stat.h>

#include <cmath>
#include <cstring>

namespace jevrin {
namespace {

using test::message_of;
using test::small_picture;
using test::TemporaryDirectory;
using test::write_small_set;
using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;

void write_picture(const std::filesystem::path& file, std::size_t label, std::uint64_t number) {
    make_directory(file.parent_path());
    write_file(file, encode_png(small_picture(label, number)));
}

std::vector<std::string> paths_of(const std::vector<Item>& items) {
    std::vector<std::string> paths;
    for (const Item& item : items) paths.push_back(item.path);
    return paths;
}

TEST(Folders, DividedIntoPartsKeepThem) {
    const TemporaryDirectory directory;
    write_small_set(directory / "train", {"a", "b"}, 3);
    write_small_set(directory / "Val", {"a", "b"}, 2);
    write_small_set(directory / "test", {"a", "b", "c"}, 1);
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_THAT(set.classes, ElementsAre("a", "b", "c"));
    int validation = 0;
    for (const Item& item : set.items) {
        EXPECT_EQ(item.part, part_from_name(item.path.substr(0, item.path.find('/'))));
        validation += item.part == Part::validation ? 1 : 0;
    }
    EXPECT_EQ(validation, 4);
    make_directory(directory / "extras");
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory.path()}); }),
                AllOf(HasSubstr("'extras'"), HasSubstr("move those away")));
}

TEST(Folders, ALevelTooManyIsSaid) {
    const TemporaryDirectory directory;
    write_small_set(directory.path() / "outer" / "set", {"a", "b"}, 1);
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory / "outer"}); }),
                AllOf(HasSubstr("one level too high"), HasSubstr("outer/set, which holds 'a', 'b'")));
    for (const char* camera : {"left", "right"})
        for (const char* label : {"a", "b"})
            write_picture(directory.path() / "cameras" / camera / label / "x.png", 0, 1);
    EXPECT_THAT(list_image_set({.from = directory / "cameras"}).notes,
                ElementsAre(HasSubstr("holds the same folders 'a', 'b'")));
}

TEST(Folders, ContentDecidesTheFormatNotTheName) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 1);
    write_file(directory.path() / "a" / "really a jpeg.PNG", encode_jpeg(small_picture(0, 5), 90));
    write_file(directory.path() / "a" / "really a png.webp", encode_png(small_picture(0, 6)));
    const ImageSet set = read_image_set({.from = directory.path()});
    ASSERT_EQ(set.items.size(), 4U);
    EXPECT_EQ(set.items[1].facts.format, ImageFormat::jpeg);
    EXPECT_EQ(set.items[2].facts.format, ImageFormat::png);
    EXPECT_TRUE(set.problems.empty());
}

TEST(Folders, LinksLoopsAndStrangeNamesDoNoHarm) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 2);
    std::filesystem::create_directory_symlink(directory.path(), directory.path() / "a" / "loop");
    std::filesystem::create_symlink("nowhere", directory.path() / "a" / "dangling.png");
    const std::vector<std::string> names = {"with \"quotes\".png", "with,comma.png", "with\nbreak.png",
                                            "not utf8 \xff\xfe.png"};
    for (const std::string& name : names) write_picture(directory.path() / "b" / name, 1, name.size());
    const ImageSet set = read_image_set({.from = directory.path()});
    EXPECT_EQ(set.items.size(), 8U);
    EXPECT_EQ(set.skipped, 1);
    ASSERT_EQ(set.problems.size(), 1U);
    EXPECT_THAT(set.problems[0].problem, HasSubstr("cannot read"));
    for (const std::string& name : names) EXPECT_THAT(paths_of(set.items), testing::Contains("b/" + name));
}

TEST(Folders, ClassesThatLookTheSameAreRefused) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"Gl\xC3\xA9", "a"}, 1);        // one code point
    write_picture(directory.path() / "Gle\xCC\x81" / "x.png", 0, 9);  // two
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory.path()}); }),
                HasSubstr("differ only by case or by their form in Unicode"));
}

TEST(Folders, ThePlanMayOrderTheClasses) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 2);
    const ImageSet set = read_image_set({.from = directory.path(), .classes = {"b", "a"}});
    EXPECT_THAT(set.classes, ElementsAre("b", "a"));
    EXPECT_EQ(set.items[0].path, "b/00.png");
    EXPECT_EQ(set.items[0].label, 0U);
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory.path(), .classes = {"a"}}); }),
                HasSubstr("holds the class 'b', which 'classes' does not name"));
    EXPECT_THAT(message_of<InputError>([&] {
                    list_image_set({.from = directory.path(), .classes = {"a", "b", "bb"}});
                }),
                HasSubstr("'bb' (did you mean 'b'?)"));
}

TEST(Index, PathsLabelsPartsWeightsAndGroups) {
    const TemporaryDirectory directory;
    for (int i = 0; i < 4; ++i) write_picture(directory / fmt::format("images/{}, \"x\".png", i), 0, i + 1U);
    write_file(directory / "index.csv",
               std::string("\xEF\xBB\xBFpath,label,part,weight,group,remark\r\n"
                           "\"images/0, \"\"x\"\".png\",sound,training,2.5,tile 1,\"two\nlines\"\r\n"
                           "\"images/1, \"\"x\"\".png\",pin holes,val,,tile 1,\r\n"
                           "\"images/../images/2, \"\"x\"\".png\",sound,test,1,,\r\n"
                           "\"images/3, \"\"x\"\".png\",,,,,\r\n"
                           "images/missing.png,sound,training,1,,\r\n"));
    std::string text = read_text(directory / "index.csv");
    text.replace(text.find("val,,"), 5, "val,1,");
    text.replace(text.find(",,,,,\r"), 6, ",,,1,,\r");
    write_file(directory / "index.csv", text);
    const ImageSet set = read_image_set({.from = directory / "index.csv"});
    EXPECT_THAT(set.classes, ElementsAre("pin holes", "sound"));
    ASSERT_EQ(set.items.size(), 3U);
    EXPECT_EQ(set.items[0].path, "images/0, \"x\".png");
    EXPECT_EQ(set.items[0].label, 1U);
    EXPECT_EQ(set.items[0].weight, 2.5);
    EXPECT_EQ(set.items[0].group, "tile 1");
    EXPECT_EQ(set.items[1].part, Part::validation);
    EXPECT_EQ(set.items[2].path, "images/2, \"x\".png");
    EXPECT_EQ(set.unlabelled.size(), 1U);
    ASSERT_EQ(set.problems.size(), 1U);
    EXPECT_EQ(set.problems[0].file, "images/missing.png");
    EXPECT_THAT(set.notes, ElementsAre(HasSubstr("not used: 'remark'")));
}

TEST(Index, WrongRowsAreCollectedWithTheirLines) {
    const TemporaryDirectory directory;
    const auto message = [&](const std::string& text, ImageSource source = {}) {
        write_file(directory / "i.csv", text);
        source.from = directory / "i.csv";
        return message_of<InputError>([&] { list_image_set(source); });
    };
    EXPECT_THAT(message("path,label,part,weight\na,x,trial,1\n,y,,1\nb,y,,heavy\nc,x,,-1\n"),
                AllOf(HasSubstr("4 wrong rows"), HasSubstr("line 2: part is 'trial'"),
                      HasSubstr("line 3: the path is"), HasSubstr("line 4: weight is 'heavy'"),
                      HasSubstr("line 5: weight is '-1'")));
    EXPECT_THAT(message("path,label\na,x\nb,y\na,y\n"), HasSubstr("line 4: 'a' has another label in line 2"));
    EXPECT_THAT(message("file,class\na,x\n"),
                HasSubstr("no column 'path'; its first row names 'file', 'class'"));
    EXPECT_THAT(message("file,label\na,x\n", {.columns = {{"path", "fil"}}}),
                HasSubstr("did you mean 'file'?"));
    EXPECT_THAT(message("path,label\na,x,y\n"), HasSubstr("i.csv:2: this row has 3 cells"));
    EXPECT_THAT(message("path,label\n\"a,x\nb,y\n"), HasSubstr("quote is unclosed"));
    EXPECT_THAT(message("path,label\n"), HasSubstr("names no labelled image"));
    EXPECT_THAT(message(""), HasSubstr("is empty"));
    EXPECT_THAT(message(std::string("path\0label", 10)), HasSubstr("neither a CSV index nor"));
    EXPECT_THAT(message("path,label\na,x\nb,X\n"), HasSubstr("differ only by case"));
}

TEST(Index, RowsThatRepeatAFileAreNoted) {
    const TemporaryDirectory directory;
    write_file(directory / "i.csv", std::string("path,label\na,x\nb,y\n./a,x\n"));
    const ImageSet set = list_image_set({.from = directory / "i.csv"});
    EXPECT_THAT(paths_of(set.items), ElementsAre("a", "b"));
    EXPECT_THAT(set.notes, ElementsAre(HasSubstr("1 row of the index names a file a second time")));
}

TEST(Groups, APatternNamesPicturesOfOneObject) {
    const TemporaryDirectory directory;
    for (const char* name : {"a/tile-7-left.png", "a/tile-7-right.png", "b/tile-8-left.png", "b/other.png"})
        write_picture(directory / name, 0, std::strlen(name));
    const ImageSet set = list_image_set({.from = directory.path(), .group_pattern = "tile-(\\d+)"});
    EXPECT_EQ(set.items[0].group, "7");
    EXPECT_EQ(set.items[1].group, "7");
    EXPECT_EQ(set.items[2].group, "");
    EXPECT_THAT(set.notes, ElementsAre(HasSubstr("matches 3 of 4 items")));
    EXPECT_THAT(message_of<InputError>(
                    [&] { list_image_set({.from = directory.path(), .group_pattern = "kiln(\\d)"}); }),
                HasSubstr("matches no item"));
    EXPECT_THAT(
        message_of<InputError>([&] { list_image_set({.from = directory.path(), .group_pattern = "("}); }),
        HasSubstr("is not a pattern"));
}

// --- arrays ---

template <typename Number>
std::string numbers(const std::vector<Number>& values) {
    return {reinterpret_cast<const char*>(values.data()), values.size() * sizeof(Number)};
}

// Two images of 2x3: the values 0 to 5 and 10 to 15.
std::string twelve_bytes() {
    return numbers<std::uint8_t>({0, 1, 2, 3, 4, 5, 10, 11, 12, 13, 14, 15});
}

TEST(Arrays, IdxPicturesAndLabelsBecomeASet) {
    const TemporaryDirectory directory;
    write_file(directory / "p.idx", test::idx_of({2, 2, 3}, twelve_bytes()));
    write_file(directory / "l.idx", test::idx_of({2}, numbers<std::uint8_t>({7, 3})));
    const ImageSource source{.from = directory / "p.idx", .labels = directory / "l.idx"};
    const ImageSet set = read_image_set(source);
    EXPECT_THAT(set.classes, ElementsAre("3", "7"));
    EXPECT_THAT(paths_of(set.items), ElementsAre("p.idx[0]", "p.idx[1]"));
    EXPECT_EQ(set.items[0].label, 1U);
    EXPECT_EQ(set.items[0].facts.width, 3);
    EXPECT_EQ(set.items[0].facts.channels, 1);
    const Image second = load_image(set, set.items[1]);
    EXPECT_EQ(second.at(2, 0)[0], 12);
    EXPECT_EQ(second.at(0, 1)[2], 13);
    ImageSource turned = source;
    turned.transposed = true;
    const ImageSet turned_set = read_image_set(turned);
    const Image upright = load_image(turned_set, turned_set.items[1]);
    EXPECT_EQ(upright.width, 2);
    EXPECT_EQ(upright.at(0, 2)[0], 12);
    EXPECT_THAT(message_of<InputError>([&] { load_image(turned_set, set.items[1]); }),
                HasSubstr("p.idx[1]: it changed since"));
    ImageSource named = source;
    named.classes = {"sound", "crazing"};
    EXPECT_THAT(message_of<InputError>([&] { list_image_set(named); }),
                HasSubstr("label 0 is 7; the plan names 2 classes, 0 to 1"));
}

TEST(Arrays, NpyInItsLayouts) {
    const TemporaryDirectory directory;
    const auto second_image = [&](const std::string& file, const std::vector<std::int64_t>& shape = {}) {
        write_file(directory / "p.npy", file);
        return ImageArray(directory / "p.npy", shape, false).image(1);
    };
    const auto reds = [](const Image& image) {
        std::vector<int> values;
        for (std::size_t i = 0; i < image.pixels.size(); i += 3) values.push_back(image.pixels[i]);
        return values;
    };
    EXPECT_THAT(reds(second_image(test::npy_of("|u1", "(2, 2, 3)", twelve_bytes()))),
                ElementsAre(10, 11, 12, 13, 14, 15));
    EXPECT_THAT(reds(second_image(test::npy_of("|u1", "(2, 6)", twelve_bytes()), {2, 3})),
                ElementsAre(10, 11, 12, 13, 14, 15));
    // The first index is the fastest: image 1 has the odd places.
    EXPECT_THAT(reds(second_image(test::npy_of("|u1", "(2, 2, 3)", twelve_bytes(), true))),
                ElementsAre(1, 5, 13, 3, 11, 15));
    // Channels last, and first.
    const Image last = second_image(test::npy_of("|u1", "(2, 1, 2, 3)", twelve_bytes()));
    EXPECT_THAT(std::vector<int>(last.pixels.begin(), last.pixels.end()),
                ElementsAre(10, 11, 12, 13, 14, 15));
    const Image first = second_image(test::npy_of("|u1", "(2, 3, 1, 2)", twelve_bytes()));
    EXPECT_THAT(std::vector<int>(first.pixels.begin(), first.pixels.end()),
                ElementsAre(10, 12, 14, 11, 13, 15));
    // Floats of 0 to 1, also with the other byte order; and of 0 to 255.
    EXPECT_THAT(reds(second_image(test::npy_of("<f4", "(2, 1, 2)", numbers<float>({0, 0.5F, 1, 0.2F})))),
                ElementsAre(255, 51));
    EXPECT_THAT(reds(second_image(test::npy_of("<f8", "(2, 1, 2)", numbers<double>({0, 200, 17, 9.6})))),
                ElementsAre(17, 10));
    EXPECT_THAT(
        reds(second_image(test::npy_of(">f4", "(2, 1, 1)", std::string("\x3F\x80\0\0\x3F\0\0\0", 8)))),
        ElementsAre(128));
}

TEST(Arrays, AFileThatIsCutWhileItIsInUseIsAnError) {
    const TemporaryDirectory directory;
    write_file(directory / "p.npy", test::npy_of("|u1", "(2, 2, 3)", twelve_bytes()));
    const ImageArray array(directory / "p.npy", {}, false);
    std::filesystem::resize_file(directory / "p.npy", std::filesystem::file_size(directory / "p.npy") - 3);
    EXPECT_EQ(array.image(0).width, 3);
    EXPECT_THAT(message_of<InputError>([&] { array.image(1); }), HasSubstr("ends too early"));
}

TEST(Arrays, OneHotLabelsAndWholeFloatsCount) {
    const TemporaryDirectory directory;
    const auto labels = [&](const std::string& file) {
        write_file(directory / "l.npy", file);
        return read_labels(directory / "l.npy");
    };
    const LabelArray hot = labels(test::npy_of("<f4", "(2, 3)", numbers<float>({0, 0, 1, 1, 0, 0})));
    EXPECT_THAT(hot.labels, ElementsAre(2, 0));
    EXPECT_EQ(hot.columns, 3);
    EXPECT_THAT(labels(test::npy_of("<i8", "(2,)", numbers<std::int64_t>({4, 2}))).labels, ElementsAre(4, 2));
    const auto message = [&](const std::string& file) {
        return message_of<InputError>([&] { labels(file); });
    };
    EXPECT_THAT(message(test::npy_of("<f4", "(2, 3)", numbers<float>({0, 1, 1, 1, 0, 0}))),
                HasSubstr("row 0 is not one-hot"));
    EXPECT_THAT(message(test::npy_of("<f4", "(2, 2)", numbers<float>({0, 1, 0, 0}))),
                HasSubstr("row 1 is not one-hot"));
    EXPECT_THAT(message(test::npy_of("<f4", "(2,)", numbers<float>({0, 1.5F}))),
                HasSubstr("label 1 is 1.5, not an integer"));
}

TEST(Arrays, WhatDoesNotFitIsSaidInWords) {
    const TemporaryDirectory directory;
    write_file(directory / "l.idx", test::idx_of({3}, std::string(3, '\1')));
    const auto message = [&](const std::string& file, ImageSource source = {}) {
        write_file(directory / "p", file);
        source.from = directory / "p";
        if (source.labels.empty()) source.labels = directory / "l.idx";
        return message_of<InputError>([&] { list_image_set(source); });
    };
    EXPECT_THAT(message(test::idx_of({2, 2, 3}, twelve_bytes())), HasSubstr("holds 2 images and"));
    EXPECT_THAT(message(test::idx_of({2, 2, 4}, twelve_bytes())),
                HasSubstr("its shape [2, 2, 4] means 16 numbers, but it holds 12; it is truncated"));
    EXPECT_THAT(message(test::idx_of({3, 4}, twelve_bytes())), HasSubstr("perhaps shape = [2, 2]"));
    EXPECT_THAT(message(test::idx_of({3, 4}, twelve_bytes()), {.shape = {2, 3}}),
                HasSubstr("but its rows have 4"));
    EXPECT_THAT(message(test::idx_of({0xFFFFFFFF, 0xFFFFFFFF, 0xFFFFFFFF}, "x")), HasSubstr("is invalid"));
    EXPECT_THAT(message(test::idx_of({0, 2, 2}, "")), HasSubstr("is empty"));
    EXPECT_THAT(message(test::npy_of("<f4", "(3, 1, 1)", numbers<float>({-1, 0, 1}))),
                HasSubstr("values go from -1 to 1"));
    EXPECT_THAT(message(test::npy_of("<i4", "(3, 1, 1)", numbers<int>({1, 2, 3}))),
                HasSubstr("neither unsigned bytes, nor unsigned of 16 bits, nor floats"));
    EXPECT_THAT(message(test::npy_of("<c8", "(3, 1, 1)", std::string(24, 'x'))),
                HasSubstr("numbers are of type '<c8'"));
    EXPECT_THAT(message("\x1f\x8b" + std::string(30, '\0')), HasSubstr("gzip data are damaged"));
    const std::string whole = test::npy_of("|u1", "(3, 2, 2)", twelve_bytes());
    for (std::size_t length = 1; length < whole.size(); length += 9)
        EXPECT_FALSE(message(whole.substr(0, length)).empty()) << length;
    write_file(directory / "p", test::idx_of({3, 2, 2}, twelve_bytes()));
    EXPECT_THAT(message_of<InputError>([&] { list_image_set({.from = directory / "p"}); }),
                HasSubstr("name the file of its labels with 'labels'"));
}

TEST(Arrays, AValueThatIsNoNumberCostsItsPictureAlone) {
    const TemporaryDirectory directory;
    write_file(directory / "p.npy", test::npy_of("<f4", "(3, 1, 1)", numbers<float>({0, NAN, 1})));
    write_file(directory / "l.npy", test::npy_of("|u1", "(3,)", numbers<std::uint8_t>({0, 1, 1})));
    const ImageSet set = read_image_set({.from = directory / "p.npy", .labels = directory / "l.npy"});
    EXPECT_EQ(set.items.size(), 2U);
    ASSERT_EQ(set.problems.size(), 1U);
    EXPECT_EQ(set.problems[0].file, "p.npy[1]");
    EXPECT_THAT(set.problems[0].problem, HasSubstr("NaN"));
}

// --- corrections, unlabelled images ---

TEST(Corrections, RelabelExcludeAndLabelTheUnlabelled) {
    const TemporaryDirectory directory;
    write_small_set(directory / "set", {"a", "b"}, 3);
    write_picture(directory.path() / "set" / "new" / "x.png", 0, 77);
    write_picture(directory.path() / "set" / "new" / "y.png", 0, 78);
    ImageSource source{.from = directory / "set", .unlabelled = directory.path() / "set" / "new"};
    const ImageSet before = read_image_set(source);
    EXPECT_THAT(before.classes, ElementsAre("a", "b"));
    EXPECT_THAT(paths_of(before.unlabelled), ElementsAre("new/x.png", "new/y.png"));
    source.corrections = directory / "corrections.csv";
    write_file(source.corrections,
               fmt::format("item,label,note\n{},b,\"wrong, see kiln log\"\na/01.jpg,exclude,\n"
                           "new/x.png,a,\nb/00.png,b,\ngone.png,a,\n",
                           before.items[0].id));
    const ImageSet after = read_image_set(source);
    EXPECT_EQ(after.items.size(), 6U);
    EXPECT_EQ(after.items[0].label, 1U);
    EXPECT_EQ(after.relabelled, 2);
    EXPECT_EQ(after.excluded, 1);
    EXPECT_EQ(after.unlabelled.size(), 1U);
    EXPECT_EQ(after.items.back().path, "new/x.png");
    EXPECT_NE(after.fingerprint, before.fingerprint);
    EXPECT_THAT(after.notes,
                ElementsAre(HasSubstr("1 correction names no item that is there now, the first 'gone.png'")));
    write_file(source.corrections, std::string("item,label\na/00.png,bb\n"));
    EXPECT_THAT(message_of<InputError>([&] { read_image_set(source); }),
                AllOf(HasSubstr("corrections.csv:2"), HasSubstr("'bb' is not a class (did you mean 'b'?)")));
    write_file(source.corrections, std::string("item,label\na/00.png,b\na/00.png,exclude\n"));
    EXPECT_THAT(message_of<InputError>([&] { read_image_set(source); }),
                HasSubstr("has another correction at"));
}

TEST(Problems, ASetThatChangesWhileItIsReadIsNoticed) {
    const TemporaryDirectory directory;
    write_small_set(directory.path(), {"a", "b"}, 3);
    ImageSet listed = list_image_set({.from = directory.path()});
    std::filesystem::remove(directory.path() / "a" / "00.png");
    read_items(listed);
    ASSERT_EQ(listed.problems.size(), 1U);
    EXPECT_EQ(listed.problems[0].file, "a/00.png");
    EXPECT_THAT(listed.problems[0].problem, HasSubstr("cannot read: No such file"));
    write_picture(directory.path() / "a" / "01.jpg", 1, 55);
    EXPECT_THAT(message_of<InputError>([&] { load_fitted(listed, listed.items[0], Fitting{.size = 8}); }),
                HasSubstr("a/01.jpg: it changed since"));
}

TEST(ContentCache, SparesReadingFilesThatDidNotChange) {
    const TemporaryDirectory directory;
    write_small_set(directory / "set", {"a", "b"}, 3);
    write_file(directory.path() / "set" / "a" / "bad.png", std::string("no image"));
    const auto file = directory / "contents";
    const auto path = std::filesystem::absolute(directory.path() / "set" / "a" / "00.png");
    const ImageSource source{.from = directory / "set"};
    {
        // Files changed within the last second could change again without a trace, and are not kept.
        ContentCache cache(file);
        read_image_set(source, {}, &cache);
        EXPECT_FALSE(cache.find(path, *state_of(path)).has_value());
    }
    ::usleep(1'100'000);
    ContentCache cache(file);
    const ImageSet first = read_image_set(source, {}, &cache);
    cache.save();
    ContentCache again(file);
    ASSERT_TRUE(again.find(path, *state_of(path)).has_value());
    EXPECT_EQ(again.find(path, *state_of(path))->hash, first.items[0].content);
    const ImageSet second = read_image_set(source, {}, &again);
    EXPECT_EQ(second.fingerprint, first.fingerprint);
    EXPECT_EQ(second.items[0].perceptual_hash, first.items[0].perceptual_hash);
    EXPECT_EQ(second.problems[0].problem, first.problems[0].problem);
    // What it holds stands in for reading.
    FileContent foretold;
    foretold.hash = {1, 2};
    again.put(path, *state_of(path), foretold);
    EXPECT_EQ(read_image_set(source, {}, &again).items[0].content, foretold.hash);
    // A changed file is read again although its size and time of change are as before.
    const auto time = std::filesystem::last_write_time(path);
    const auto size = std::filesystem::file_size(path);
    std::string other = read_text(path);
    other[other.size() - 20] ^= 1;
    write_file(path, other);
    std::filesystem::last_write_time(path, time);
    ASSERT_EQ(std::filesystem::file_size(path), size);
    EXPECT_FALSE(again.find(path, *state_of(path)).has_value());
    // A damaged cache counts as empty.
    std::string bytes = read_text(file);
    bytes[bytes.size() / 2] ^= 1;
    write_file(file, bytes);
    EXPECT_FALSE(ContentCache(file)
                     .find((path.parent_path() / "01.jpg"), *state_of(path.parent_path() / "01.jpg"))
                     .has_value());
}

TEST(Csv, CellsGoRound) {
    const std::vector<std::string> cells = {"",           "plain",   "with,comma", "with \"quote\"",
                                            "two\nlines", " padded "};
    const std::string text = "a,b,c,d,e,f\n" + csv_row(cells);
    const CsvReader reader(text, "t");
    std::vector<std::string> read;
    reader.for_each([&](const CsvRow& row) {
        EXPECT_EQ(row.line, 2);
        read.assign(row.cells.begin(), row.cells.end());
    });
    EXPECT_EQ(read, cells);
}

}  // namespace
}  // namespace jevrin
