// The tables of keys in docs/formats.md are those of the descriptions. JEVRIN_WRITE_REFERENCE=1 writes them.
#include "jevrin/plan/reference.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <cstdlib>

namespace jevrin {
namespace {

TEST(Reference, TheDocumentHoldsEveryDescribedKey) {
    const std::filesystem::path file = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "docs/formats.md";
    const std::string begin = "<!-- begin of the generated reference -->\n\n";
    const std::string end = "<!-- end of the generated reference -->\n";
    std::string text = read_text(file);
    const std::size_t from = text.find(begin) + begin.size();
    const std::size_t to = text.find(end);
    ASSERT_LE(from, to);
    if (std::getenv("JEVRIN_WRITE_REFERENCE") != nullptr)
        write_file(file, text.substr(0, from) + settings_reference() + text.substr(to));
    else
        EXPECT_EQ(text.substr(from, to - from), settings_reference())
            << "run test_plan --gtest_filter='Reference.*' with JEVRIN_WRITE_REFERENCE=1";
}

TEST(Reference, SaysTypeDefaultMeaningAndWhenAKeyApplies) {
    const std::string reference = settings_reference();
    for (const char* line :
         {"| `batch` | integer from 1 to 65536 (items) | `32` | batch size |",
          "| `momentum` | number from 0 to 0.9999 | `0.9` | momentum (Polyak 1964); only sgd |",
          "| `sampling` | one of natural, balanced | `\"natural\"` | natural: every item once per epoch; "
          "balanced: classes drawn with equal probability |",
          "| `from` | path | required | a folder, a CSV index, an array file (IDX, NPY, also in "
          "gzip), or an archive of arrays (NPZ) |"})
        EXPECT_THAT(reference, testing::HasSubstr(line));
}

}  // namespace
}  // namespace jevrin
