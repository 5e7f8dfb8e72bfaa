// Tables as text: what is written is read again, and what cannot be read is named by its line.
#include "jevrin/base/csv.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::message_of;
using testing::ElementsAre;
using testing::HasSubstr;

using Rows = std::vector<std::vector<std::string>>;

Rows rows_of(const std::string& text, std::vector<std::int64_t>* lines = nullptr) {
    Rows rows;
    CsvReader(text, "t.csv").for_each([&](const CsvRow& row) {
        rows.emplace_back(row.cells.begin(), row.cells.end());
        if (lines != nullptr) lines->push_back(row.line);
    });
    return rows;
}

TEST(Csv, AnyCellsComeBackAsTheyWere) {
    const Rows written = {{"plain", "with, comma", "with \"quotes\""},
                          {" space before", "and after ", "\ttab\t"},
                          {"two\nlines", "carriage\r\nreturn", ""},
                          {"\"", ",", "\u9676\u5668"}};
    std::string text = csv_row(std::vector<std::string>{"a", "b", "c"});
    for (const auto& row : written) text += csv_row(row);
    EXPECT_EQ(rows_of(text), written);
    // One column, whose cell is empty, is a row all the same.
    EXPECT_EQ(rows_of("a\n" + csv_row(std::vector<std::string>{""})), (Rows{{""}}));
}

TEST(Csv, CellsThatASpreadsheetWouldRunAreGuarded) {
    const std::vector<std::pair<std::string, std::string>> cells = {
        {"=1+1", "'=1+1"},    {"+cmd", "'+cmd"}, {"-1-2", "'-1-2"},   {"@sum", "'@sum"},
        {"\tx", "'\tx"},      {"'=x", "''=x"},   {"''@", "'''@"},     {"-0.5", "-0.5"},
        {"-1e-05", "-1e-05"}, {"'tis", "'tis"},  {"a=b", "a=b"},      {"", ""},
        {"+1", "'+1"},        {"-inf", "-inf"},  {"\rx", "\"'\rx\""}, {"-a,b", "\"'-a,b\""}};
    for (const auto& [cell, written] : cells) {
        EXPECT_EQ(csv_cell(cell), written);
        EXPECT_EQ(rows_of("a,b\n" + csv_row(std::vector<std::string>{cell, "x"})), (Rows{{cell, "x"}}));
    }
}

TEST(Csv, RandomCellsComeBackAsTheyWere) {
    const std::string letters = "ab,\"\n\r\t ;'#=";
    for (std::uint64_t trial = 0; trial < 300; ++trial) {
        RandomStream random({trial, Purpose::sample, 0, 0});
        Rows written(3, std::vector<std::string>(1 + random.below(4)));
        for (auto& row : written) {
            row.resize(written[0].size());
            for (std::string& cell : row)
                for (std::uint32_t k = random.below(7); k > 0; --k)
                    cell += letters[random.below(static_cast<std::uint32_t>(letters.size()))];
        }
        std::string text = csv_row(std::vector<std::string>(written[0].size(), "x"));
        for (const auto& row : written) text += csv_row(row);
        EXPECT_EQ(rows_of(text), written) << text;
    }
}

TEST(Csv, RowsKnowTheirLinesAndEmptyLinesArePassedOver) {
    std::vector<std::int64_t> lines;
    EXPECT_EQ(rows_of("\xEF\xBB\xBFpath,label\r\n\r\n\"a\nb\",1\r\nc,2", &lines),
              (Rows{{"a\nb", "1"}, {"c", "2"}}));
    EXPECT_THAT(lines, ElementsAre(3, 5));
}

TEST(Csv, WhatIsWrongIsNamedByItsLine) {
    EXPECT_THAT(message_of<InputError>([] { CsvReader("", "t.csv"); }), HasSubstr("t.csv: it is empty"));
    EXPECT_THAT(message_of<InputError>([] { rows_of("a,b\n1,2\n3\n"); }),
                testing::AllOf(HasSubstr("t.csv:3: "), HasSubstr("1 cells"), HasSubstr("has 2")));
    EXPECT_THAT(message_of<InputError>([] { rows_of("a,b\n1,2\n3,\"open\n"); }), HasSubstr("t.csv:3: "));
    EXPECT_THAT(
        message_of<InputError>([] { CsvReader("path,label\n", "t.csv").require("lable"); }),
        testing::AllOf(HasSubstr("no column 'lable' (did you mean 'label'?)"), HasSubstr("'path', 'label'")));
    EXPECT_EQ(CsvReader("path,label\n", "t.csv").find("part"), -1);
    EXPECT_EQ(CsvReader("path,label\n", "t.csv").require("label"), 1U);
}

TEST(Csv, AnErrorOfTheCallerComesThroughAndStopsTheReading) {
    int seen = 0;
    const std::string text = "a\n1\n2\n3\n";
    EXPECT_THAT(message_of<InputError>([&] {
                    CsvReader(text, "t.csv").for_each([&](const CsvRow& row) {
                        ++seen;
                        if (row.cells[0] == "2") throw InputError("enough");
                    });
                }),
                "enough");
    EXPECT_EQ(seen, 2);
}

}  // namespace
}  // namespace jevrin
