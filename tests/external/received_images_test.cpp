// Images that came back with another label: kept once, reviewed by somebody, written into the image set.
#include "jevrin/external/received_images.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

namespace jevrin {
namespace {

using test::bytes_of;
using test::message_of;
using test::TemporaryDirectory;
using testing::EndsWith;
using testing::HasSubstr;

class Received : public testing::Test {
  protected:
    // A PNG by its first bytes; nothing here looks further.
    static std::string picture(int number) { return fmt::format("\x89PNG\r\n\x1a\n{}", number); }
    ReceivedImages::Added add(int number, const std::string& label, const std::string& note = "",
                              const std::string& sender = "shop", std::int64_t version = 3) {
        return store_.add({.name = "tile.png",
                           .label = label,
                           .note = note,
                           .model = "tiles",
                           .version = version,
                           .predicted = "net",
                           .probability = 0.75,
                           .sender = sender},
                          bytes_of(picture(number)));
    }
    std::string file_of(std::size_t place) const {
        return std::filesystem::path(store_.list().at(place).written).lexically_relative(directory_.path());
    }

    TemporaryDirectory directory_;
    ReceivedImages store_{directory_.path()};
};

TEST_F(Received, AreKeptWithEverythingThatIsSaidOfThem) {
    EXPECT_TRUE(ReceivedImages::exists(directory_.path()));
    EXPECT_FALSE(ReceivedImages::exists(directory_ / "elsewhere"));
    EXPECT_EQ(add(1, "spiral", "seen by hand").number, 1);
    const std::vector<ReceivedImage> images = ReceivedImages(directory_.path()).list();
    ASSERT_EQ(images.size(), 1U);
    EXPECT_EQ(images[0].number, 1);
    EXPECT_EQ(images[0].name, "tile.png");
    EXPECT_EQ(images[0].label, "spiral");
    EXPECT_EQ(images[0].note, "seen by hand");
    EXPECT_EQ(images[0].model, "tiles");
    EXPECT_EQ(images[0].version, 3);
    EXPECT_EQ(images[0].predicted, "net");
    EXPECT_EQ(images[0].probability, 0.75);
    EXPECT_EQ(images[0].sender, "shop");
    EXPECT_EQ(images[0].review, Review::waiting);
    EXPECT_EQ(images[0].written, "");
    EXPECT_THAT(store_.bytes(1), testing::ElementsAreArray(bytes_of(picture(1))));
    EXPECT_THAT(message_of<InputError>([&] { store_.bytes(2); }), HasSubstr("no received image 2"));
    EXPECT_THAT(message_of<InputError>([&] { store_.add({}, bytes_of("GIF? no")); }),
                HasSubstr("no image file"));
}

TEST_F(Received, OfOneSenderAreKeptOnceAndSaidOtherwiseUntilTheyAreReviewed) {
    add(1, "spiral");
    EXPECT_TRUE(add(2, "spiral").is_new);
    EXPECT_TRUE(add(1, "spiral", "", "other shop").is_new);
    const ReceivedImages::Added again = add(1, "spiral");
    EXPECT_EQ(again.number, 1);
    EXPECT_FALSE(again.is_new);
    EXPECT_TRUE(add(1, "spiral", "look at the rim").is_new);
    // Of a later version's answer.
    EXPECT_TRUE(add(1, "ring", "look at the rim", "shop", 4).is_new);
    ASSERT_EQ(store_.list().size(), 3U);
    EXPECT_EQ(store_.list()[0].number, 1);
    EXPECT_EQ(store_.list()[0].version, 4);
    EXPECT_EQ(store_.list()[0].name, "tile.png");
    EXPECT_EQ(store_.list()[0].label, "ring");
    EXPECT_EQ(store_.list()[0].note, "look at the rim");
    EXPECT_EQ(store_.list()[2].label, "spiral");
    store_.review({1}, Review::rejected);
    EXPECT_FALSE(add(1, "ring", "look at the rim").is_new);
    EXPECT_THAT(message_of<ConflictError>([&] { add(1, "net", "look at the rim"); }),
                HasSubstr("was reviewed"));
    EXPECT_EQ(store_.list()[0].label, "ring");
}

TEST_F(Received, AreReviewedAllOrNoneAndAReviewersLabelStays) {
    for (int k = 1; k <= 3; ++k) add(k, "spiral");
    EXPECT_THAT(message_of<InputError>([&] {
                    store_.review({1, 4}, Review::accepted);
                }),
                HasSubstr("no received image 4"));
    EXPECT_EQ(store_.list()[0].review, Review::waiting);
    store_.review({1, 3}, Review::accepted);
    store_.review({3}, Review::accepted, "ring");
    store_.review({3}, Review::accepted);
    const std::vector<ReceivedImage> images = store_.list();
    EXPECT_EQ(images[0].review, Review::accepted);
    EXPECT_EQ(images[0].label, "spiral");
    EXPECT_EQ(images[1].review, Review::waiting);
    EXPECT_EQ(images[2].label, "ring");
}

TEST_F(Received, ThatAreAcceptedAndNoOthersAreWrittenOnce) {
    for (int k = 1; k <= 4; ++k) add(k, k == 4 ? "" : "spiral");
    store_.review({1, 4}, Review::accepted);
    store_.review({2}, Review::rejected);
    ReceivedImages::Written written = store_.write_into(directory_ / "set");
    EXPECT_EQ(written.labelled, 1);
    EXPECT_EQ(written.unlabelled, 0);
    EXPECT_EQ(written.left, 1);
    EXPECT_EQ(file_of(0), fmt::format("set/spiral/received-{}.png", store_.list()[0].content));
    EXPECT_EQ(read_text(store_.list()[0].written), picture(1));
    EXPECT_EQ(store_.list()[1].written, "");
    EXPECT_EQ(store_.list()[2].written, "");
    written = store_.write_into(directory_ / "set", directory_ / "none");
    EXPECT_EQ(written.labelled, 0);
    EXPECT_EQ(written.unlabelled, 1);
    EXPECT_EQ(written.left, 0);
    EXPECT_EQ(file_of(3), fmt::format("none/received-{}.png", store_.list()[3].content));
    EXPECT_EQ(store_.write_into(directory_ / "set", directory_ / "none").unlabelled, 0);
    EXPECT_THAT(message_of<InputError>([&] { store_.review({1}, Review::rejected); }),
                testing::AllOf(HasSubstr("received image 1 is in the image set already"), EndsWith(".png")));
}

TEST_F(Received, AreCalledByTheirFormat) {
    const std::pair<std::string, std::string> formats[] = {{"\xff\xd8\xff\xe0 ..", ".jpg"},
                                                           {"GIF89a ..", ".gif"},
                                                           {"BM ..............", ".bmp"},
                                                           {"RIFF1234WEBPVP8 ", ".webp"},
                                                           {std::string("II*\0 ..", 7), ".tif"}};
    std::vector<std::int64_t> numbers;
    for (const auto& [content, ending] : formats)
        numbers.push_back(store_.add({.label = "spiral"}, bytes_of(content)).number);
    store_.review(numbers, Review::accepted);
    store_.write_into(directory_ / "set");
    const std::vector<ReceivedImage> images = store_.list();
    for (std::size_t k = 0; k < images.size(); ++k)
        EXPECT_THAT(images[k].written, EndsWith(formats[k].second));
}

TEST_F(Received, WithALabelThatIsNoNameOfAFolderAreNotWritten) {
    int number = 0;
    for (const std::string& label : {std::string(".."), std::string(".hidden"), std::string("a/b"),
                                     std::string("a\\b"), std::string("a\0b", 3)}) {
        add(++number, label);
        store_.review({number}, Review::accepted);
        EXPECT_THAT(message_of<InputError>([&] { store_.write_into(directory_ / "set"); }),
                    HasSubstr("cannot be the name of a folder"));
        store_.review({number}, Review::rejected);
    }
    EXPECT_FALSE(std::filesystem::exists(directory_ / "set"));
}

TEST_F(Received, WaitInAQueueThatEnds) {
    add(0, "spiral");
    SQLite::Database(directory_ / "received.db", SQLite::OPEN_READWRITE)
        .exec(fmt::format("WITH RECURSIVE k(i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM k WHERE i < {}) "
                          "INSERT INTO images SELECT i, i, name, label, note, model, version, predicted, "
                          "probability, sender, received, review, written, bytes FROM images, k",
                          ReceivedImages::most_waiting - 1));
    EXPECT_TRUE(add(1, "spiral").is_new);
    EXPECT_THAT(message_of<InputError>([&] { add(-1, "spiral"); }), HasSubstr("too many images wait"));
    EXPECT_TRUE(add(0, "ring").is_new);  // known already
    store_.review({1}, Review::rejected);
    EXPECT_TRUE(add(-1, "spiral").is_new);
    std::string large = picture(0);
    large.resize(ReceivedImages::largest_image + 1);
    EXPECT_THAT(message_of<InputError>([&] { store_.add({}, bytes_of(large)); }),
                HasSubstr("has 33554433 bytes; at most 33554432 are kept"));
    store_.review({2}, Review::rejected);
    large.pop_back();
    EXPECT_TRUE(store_.add({}, bytes_of(large)).is_new);
}

}  // namespace
}  // namespace jevrin
