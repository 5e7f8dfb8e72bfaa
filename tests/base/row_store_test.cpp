// Rows on disk: found by their content, and missing rather than wrong when the file was damaged.
#include "jevrin/base/row_store.hpp"

#include "support/support.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

#include <fstream>

namespace jevrin {
namespace {

using test::TemporaryDirectory;

constexpr std::int64_t row_bytes = 48;

ContentHash hash_of_number(int number) {
    return hash_of(std::as_bytes(std::span(&number, 1)));
}
std::vector<std::byte> row_of(int number) {
    std::vector<std::byte> row(row_bytes);
    for (std::size_t i = 0; i < row.size(); ++i)
        row[i] = static_cast<std::byte>(number * 7 + static_cast<int>(i));
    return row;
}
RowStoreSettings settings_in(const std::filesystem::path& directory, const std::string& identity = "64 pad") {
    return {
        .directory = directory, .kind = "rows", .identity = identity, .row_bytes = row_bytes, .capacity = 20};
}
bool holds(const RowStore& store, int number) {
    std::vector<std::byte> found(row_bytes);
    if (!store.read(hash_of_number(number), found)) return false;
    EXPECT_EQ(found, row_of(number)) << number;
    return true;
}
void fill(RowStore& store, int first, int last) {
    for (int number = first; number < last; ++number) store.put(hash_of_number(number), row_of(number));
}

void keep_ten(const RowStoreSettings& settings) {
    RowStore store(settings);
    fill(store, 0, 10);
}

TEST(RowStore, RowsOutliveTheirObjectAndAreFoundByContent) {
    const TemporaryDirectory directory;
    {
        RowStore store(settings_in(directory / "stores"));
        fill(store, 0, 10);
        store.put(hash_of_number(3), row_of(3));  // a second time changes nothing
        EXPECT_EQ(store.size(), 10);
    }
    const RowStore again(settings_in(directory / "stores"));
    for (int number = 0; number < 10; ++number) EXPECT_TRUE(holds(again, number)) << number;
    EXPECT_FALSE(holds(again, 10));
    // What depends on something else lies in another file.
    EXPECT_FALSE(holds(RowStore(settings_in(directory / "stores", "32 crop")), 3));
}

TEST(RowStore, DamagedRowsAreMissingAndCanBePutAgain) {
    const TemporaryDirectory directory;
    const RowStoreSettings settings = settings_in(directory.path());
    keep_ten(settings);
    const std::filesystem::path rows = RowStore::rows_file(settings);
    {
        // One bit in the middle of a row that lies before the last.
        std::fstream file(rows, std::ios::in | std::ios::out | std::ios::binary);
        const auto place = static_cast<std::streamoff>(std::filesystem::file_size(rows)) - 3 * row_bytes + 5;
        file.seekg(place);
        const char changed = static_cast<char>(file.get() ^ 4);
        file.seekp(place);
        file.put(changed);
    }
    int missing = 0;
    {
        RowStore store(settings);
        for (int number = 0; number < 10; ++number) missing += !holds(store, number);
        EXPECT_EQ(missing, 1);
        fill(store, 0, 10);
        for (int number = 0; number < 10; ++number) EXPECT_TRUE(holds(store, number)) << number;
    }
    EXPECT_TRUE(holds(RowStore(settings), 7));
}

TEST(RowStore, ACutOrForeignFileLosesRowsButGivesNoWrongOne) {
    const TemporaryDirectory directory;
    const RowStoreSettings settings = settings_in(directory.path());
    keep_ten(settings);
    const std::filesystem::path rows = RowStore::rows_file(settings);
    const std::filesystem::path index = RowStore::index_file(settings);
    const std::string whole_rows = read_text(rows);
    const std::string whole_index = read_text(index);
    for (const std::size_t share : {0U, 1U, 3U, 6U, 9U}) {
        write_file(rows, whole_rows.substr(0, whole_rows.size() * share / 10));
        write_file(index, whole_index);
        RowStore store(settings);
        for (int number = 0; number < 10; ++number) holds(store, number);
        fill(store, 0, 10);
        for (int number = 0; number < 10; ++number) EXPECT_TRUE(holds(store, number)) << share;
    }
    for (const std::string& text :
         {std::string(), std::string("nothing of ours"), whole_index.substr(0, 31)}) {
        write_file(rows, whole_rows);
        write_file(index, text);
        RowStore store(settings);
        fill(store, 0, 10);
        for (int number = 0; number < 10; ++number) EXPECT_TRUE(holds(store, number)) << text.size();
    }
}

TEST(RowStore, AFileThatIsCutWhileItIsInUseLosesRowsAndNothingElse) {
    const TemporaryDirectory directory;
    RowStore store(settings_in(directory.path()));
    fill(store, 0, 10);
    std::filesystem::resize_file(RowStore::rows_file(settings_in(directory.path())), 3 * row_bytes);
    for (int number = 0; number < 10; ++number) EXPECT_EQ(holds(store, number), number < 3) << number;
    store.put(hash_of_number(5), row_of(5));
    EXPECT_TRUE(holds(store, 5));
}

TEST(RowStore, WithoutADirectoryItDisappearsWithItsObject) {
    RowStoreSettings settings = settings_in("unused");
    settings.directory.reset();
    RowStore store(settings);
    fill(store, 0, 30);  // it was asked to have room for twenty
    for (int number = 0; number < 30; ++number) EXPECT_EQ(holds(store, number), number < 20) << number;
    EXPECT_FALSE(std::filesystem::exists("unused"));
}

TEST(RowStore, TwoWritersEndWithEveryRow) {
    const TemporaryDirectory directory;
    {
        RowStore first(settings_in(directory.path()));
        RowStore second(settings_in(directory.path()));
        fill(first, 0, 6);
        fill(second, 3, 9);
        for (int number = 0; number < 6; ++number) EXPECT_TRUE(holds(first, number)) << number;
        for (int number = 3; number < 9; ++number) EXPECT_TRUE(holds(second, number)) << number;
    }
    const RowStore after(settings_in(directory.path()));
    for (int number = 0; number < 6; ++number) EXPECT_TRUE(holds(after, number)) << number;
}

}  // namespace
}  // namespace jevrin
