// Text as people read it: columns, cuts, breaks, counts, times.
#include "jevrin/base/text.hpp"

#include "support/support.hpp"

#include <fmt/format.h>

#include <cassert>
#include <cmath>
#include <sstream>

namespace jevrin {
namespace {

std::string utf8(char32_t c) {
    assert(c < 0x10000);
    const auto byte = [](char32_t bits) { return static_cast<char>(bits); };
    if (c < 0x80) return {byte(c)};
    if (c < 0x800) return {byte(0xC0 | (c >> 6)), byte(0x80 | (c & 0x3F))};
    return {byte(0xE0 | (c >> 12)), byte(0x80 | ((c >> 6) & 0x3F)), byte(0x80 | (c & 0x3F))};
}

TEST(Text, ControlCharactersAndBrokenBytesAreShownAsCodes) {
    EXPECT_EQ(printable("glaze ok"), "glaze ok");
    EXPECT_EQ(printable("a\nb\x1b[31m"), "a\\x0ab\\x1b[31m");
    EXPECT_EQ(printable("caf\xc3\xa9"), "caf\xc3\xa9");
    EXPECT_EQ(printable("\xff\xc3"), "\\xff\\xc3");
    EXPECT_EQ(printable("\xe2\x80\xae"
                        "abc"),
              "\\xe2\\x80\\xae"
              "abc");  // turns the writing direction
}

TEST(Text, IsUtf8ToTheEdgesOfEveryRange) {
    const auto expect_kept = [](const std::string& text) { EXPECT_EQ(printable(text), text); };
    const auto expect_coded = [](const std::string& text) {
        std::string codes;
        for (const char c : text) codes += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
        EXPECT_EQ(printable(text), codes);
    };
    expect_kept(" ");
    expect_kept("~");
    expect_coded("\x7f");      // delete
    expect_coded("\xc2\x80");  // the first and the last of the second block of controls
    expect_coded("\xc2\x9f");
    expect_kept("\xc2\xa0");      // the first character after them
    expect_kept("\xdf\xbf");      // the last of two bytes
    expect_kept("\xe0\xa0\x80");  // the first of three
    expect_kept("\xef\xbf\xbd");
    expect_kept("\xf0\x90\x80\x80");  // of four
    expect_kept("\xf4\x8f\xbf\xbd");
    for (const char* overlong : {"\xc1\xbf", "\xe0\x9f\xbf", "\xf0\x8f\xbf\xbf"}) expect_coded(overlong);
    expect_kept("\xed\x9f\xbf");   // the last before the surrogates
    expect_coded("\xed\xa0\x80");  // half a pair
    expect_coded("\xed\xbf\xbf");
    expect_kept("\xee\x80\x80");
    expect_coded("\xf4\x90\x80\x80");  // beyond the last code point
    expect_coded("\xf5\x80\x80\x80");
    expect_coded("\x80");      // a byte that only continues
    expect_coded("\xe2\x82");  // cut
    // Marks that turn or break lines, and their neighbours.
    for (const char32_t c : {0x200E, 0x200F, 0x2028, 0x202E, 0x2066, 0x2069}) expect_coded(utf8(c));
    for (const char32_t c : {0x200D, 0x2010, 0x2027, 0x202F, 0x2065, 0x206A}) expect_kept(utf8(c));
}

TEST(Text, MarksWithoutAWidthTakeNoColumn) {
    for (const char32_t c : {0x200B, 0x200C, 0x200D, 0xFE00, 0xFE0F}) EXPECT_EQ(display_width(utf8(c)), 0U);
    for (const char32_t c : {0x2010, 0x100, 0x7E}) EXPECT_EQ(display_width(utf8(c)), 1U);
    EXPECT_EQ(display_width(utf8(0xFE10)), 2U);
    EXPECT_EQ(display_width("\xff"), 1U);
    EXPECT_EQ(padded("ab", 0), "");
    EXPECT_EQ(padded("ab", 1), "…");
    EXPECT_EQ(padded("ab", 2), "ab");
    EXPECT_EQ(padded("abc", 2), "a…");
}

TEST(Text, PaddingCountsColumnsNotBytes) {
    EXPECT_EQ(padded("caf\xc3\xa9", 6), "caf\xc3\xa9  ");
    EXPECT_EQ(display_width(padded("blisters and pinholes", 8)), 8U);
}

TEST(Text, WideCharactersTakeTwoColumnsAndLongNamesAreCut) {
    EXPECT_EQ(display_width("\xE4\xB8\xAD\xE6\x96\x87"), 4U);  // two Chinese characters
    EXPECT_EQ(display_width("e\xCC\x81"), 1U);                 // e with an accent that combines
    EXPECT_EQ(padded("\xE4\xB8\xAD\xE6\x96\x87\xE5\xAD\x97", 4), "\xE4\xB8\xAD\xE2\x80\xA6 ");
    EXPECT_EQ(display_width(shortened_text(std::string(200, 'x'), 24)), 24U);
    EXPECT_EQ(shortened_text("two\nlines", 24), "two\\x0alines");
}

TEST(Text, IsBrokenAtSpacesAndNothingIsLost) {
    const std::string text = "the gap is 0.021 with a\u0301ccents, anunbreakablelongword and more";
    const std::string lines = wrapped(text, 12);
    std::istringstream read(lines);
    std::string joined;
    for (std::string line; std::getline(read, line); joined += (joined.empty() ? "" : " ") + line)
        EXPECT_TRUE(display_width(line) <= 12 || line == "anunbreakablelongword") << line;
    EXPECT_EQ(joined, text);
    EXPECT_TRUE(lines.ends_with('\n'));
    EXPECT_EQ(wrapped("one two", 100), "one two\n");
    EXPECT_EQ(wrapped("one two", 7), "one two\n");
    EXPECT_EQ(wrapped("one two", 6), "one\ntwo\n");
    EXPECT_EQ(wrapped("", 10), "");
}

TEST(Text, IsCutInTheMiddleWhereNamesDifferAtTheirEnds) {
    EXPECT_EQ(shortened_name("from scratch: learning_rate 0.003", 40), "from scratch: learning_rate 0.003");
    const std::string cut = shortened_name("from scratch: learning_rate 0.003", 20);
    EXPECT_EQ(display_width(cut), 20U);
    EXPECT_TRUE(cut.starts_with("from"));
    EXPECT_TRUE(cut.ends_with("0.003"));
    EXPECT_NE(cut.find("\u2026"), std::string::npos);
    // Wide characters and ones of several bytes stay whole.
    for (std::size_t width = 3; width < 12; ++width) {
        const std::string wide = shortened_name("\u9676\u5668\u306e\u91c9\u85ac\u00e9\u00e9\u00e9", width);
        EXPECT_LE(display_width(wide), width) << wide;
        EXPECT_EQ(printable(wide), wide);
    }
    EXPECT_EQ(shortened_name("abcdefgh", 6), "ab…fgh");
    EXPECT_EQ(shortened_name("abcdefgh", 7), "abc…fgh");
    EXPECT_EQ(shortened_name("abcdefgh", 8), "abcdefgh");
    EXPECT_EQ(shortened_name("abcd", 3), "a…d");
    EXPECT_EQ(shortened_name("abc", 2), "a…");
}

TEST(Text, TheNearestWordIsFoundOnlyWhenNear) {
    const std::vector<std::string> words = {"epochs", "batch", "optimiser"};
    EXPECT_EQ(nearest_word("epoch", words), "epochs");
    EXPECT_EQ(nearest_word("optimizer", words), "optimiser");
    EXPECT_EQ(nearest_word("zzzzzz", words), "");
    EXPECT_EQ(nearest_word("BATCH", words), "batch");
    // A third of the letters and one more may differ; the first of those as near is taken.
    EXPECT_EQ(nearest_word("bxxch", words), "batch");
    EXPECT_EQ(nearest_word("bxxxh", words), "");
    EXPECT_EQ(nearest_word("cat", std::vector<std::string>{"bat", "rat"}), "bat");
    EXPECT_EQ(did_you_mean("epoch", words), " (did you mean 'epochs'?)");
    EXPECT_EQ(did_you_mean("zzzzzz", words), "");
}

TEST(Text, IsFoldedByLettersOrByWhatItLooksLike) {
    EXPECT_EQ(folded_case("AZ Caf\u00c9"), "az caf\u00c9");
    EXPECT_EQ(folded_form("Cafe\u0301 \uff21"), "caf\u00e9 a");
    EXPECT_EQ(folded_form("\xff"), "\xff");
}

TEST(Text, BytesAreSpokenInTheUnitThatFits) {
    EXPECT_EQ(spoken_bytes(900), "1 kB");
    EXPECT_EQ(spoken_bytes(999'400), "999 kB");
    EXPECT_EQ(spoken_bytes(1'000'000), "1.0 MB");
    EXPECT_EQ(spoken_bytes(12'340'000), "12.3 MB");
    EXPECT_EQ(spoken_bytes(1'000'000'000), "1.00 GB");
    EXPECT_EQ(spoken_bytes(3'210'000'000), "3.21 GB");
}

TEST(Text, NumbersHaveTwoSignificantDigits) {
    const std::pair<double, const char*> cases[] = {
        {0.0, "0"},        {143.2, "143"},   {12.3, "12"},     {2.14, "2.1"}, {9.94, "9.9"},     {9.96, "10"},
        {0.0944, "0.094"}, {0.0996, "0.10"}, {-0.31, "-0.31"}, {99.6, "100"}, {1e-9, "0.000000"}};
    for (const auto& [value, text] : cases) EXPECT_EQ(two_digits(value), text);
}

TEST(Text, SecondsAreSpokenInTheUnitThatFits) {
    const std::pair<double, const char*> cases[] = {
        {0.0353, "35 ms"},     {0.0994, "99 ms"},    {0.0996, "0.10 s"},   {0.31, "0.31 s"},
        {59.4, "59 s"},        {59.6, "1 min 0 s"},  {80.0, "1 min 20 s"}, {3599.4, "59 min 59 s"},
        {3599.5, "1 h 0 min"}, {7500.0, "2 h 5 min"}};
    for (const auto& [seconds, text] : cases) EXPECT_EQ(spoken_seconds(seconds), text);
}

TEST(Text, SharesAreWholePercentButNeverNoneOrAllByRounding) {
    const std::pair<double, const char*> cases[] = {{0.0, "0 %"},      {0.004, "<1 %"}, {0.005, "1 %"},
                                                    {0.125, "13 %"},   {0.994, "99 %"}, {0.995, ">99 %"},
                                                    {0.9999, ">99 %"}, {1.0, "100 %"}};
    for (const auto& [fraction, text] : cases) EXPECT_EQ(percent(fraction), text) << fraction;
}

TEST(Text, CountsHaveCommasAndTheirPlural) {
    const std::pair<std::int64_t, const char*> cases[] = {
        {0, "0"}, {999, "999"}, {1000, "1,000"}, {-100, "-100"}, {-1000, "-1,000"}, {-1234567, "-1,234,567"}};
    for (const auto& [value, text] : cases) EXPECT_EQ(with_commas(value), text);
    EXPECT_EQ(plural(1, "run"), "1 run");
    EXPECT_EQ(plural(0, "run"), "0 runs");
    EXPECT_EQ(plural(1200, "run"), "1,200 runs");
    EXPECT_EQ(three_decimals(0.12345), "0.123");
    EXPECT_EQ(three_decimals(std::nan("")), "");
}

TEST(Text, WordsOfTheShellAreQuotedWhereTheyMust) {
    EXPECT_EQ(shell_word("a/b-1_c.png"), "a/b-1_c.png");
    EXPECT_EQ(shell_word(""), "''");
    EXPECT_EQ(shell_word("two words"), "'two words'");
    EXPECT_EQ(shell_word("it's new"), "'it'\\''s new'");
}

}  // namespace
}  // namespace jevrin
