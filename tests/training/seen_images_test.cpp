#include "jevrin/training/seen_images.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

ContentHash image(std::uint64_t number) {
    return {.high = number << 32, .low = number};
}

TEST(SeenImages, AreFoundInWhateverOrderTheyWereGiven) {
    const std::vector<ContentHash> images = {image(9), image(2), image(7), image(1), image(4)};
    SeenImages seen(images);
    EXPECT_FALSE(seen.empty());
    const SeenImages read = SeenImages::from_text(seen.to_text());
    for (const ContentHash& one : images) {
        EXPECT_TRUE(seen.contains(one));
        EXPECT_TRUE(read.contains(one));
    }
    EXPECT_FALSE(seen.contains(image(3)));
    // From a text in another order, and with others.
    SeenImages other = SeenImages::from_text("0000000600000003");
    EXPECT_TRUE(other.contains(image(3)));
    EXPECT_TRUE(other.contains(image(6)));
    seen.add(other);
    seen.add(other);
    EXPECT_EQ(seen.to_text(), "00000001000000020000000300000004000000060000000700000009");
    EXPECT_TRUE(SeenImages().empty());
    for (const char* text : {"0000000", "0000000x", "000000010"})
        EXPECT_THAT(message_of<InputError>([&] { SeenImages::from_text(text); }), HasSubstr("is invalid"));
}

}  // namespace
}  // namespace jevrin
