#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/listing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <numeric>
#include <set>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// Wrong rows are collected, so that one reading shows them all.
class RowErrors {
  public:
    explicit RowErrors(std::string file) : file_(std::move(file)) {}
    void add(std::int64_t line, const std::string& message) {
        if (count_++ < shown) list_ += fmt::format("; line {}: {}", line, message);
    }
    void finish() const {
        if (count_ == 0) return;
        throw InputError(fmt::format("{}: {} wrong row{}{}{}", file_, count_, count_ == 1 ? "" : "s", list_,
                                     count_ > shown ? "; ..." : ""));
    }

  private:
    static constexpr int shown = 5;
    std::string file_;
    std::string list_;
    int count_ = 0;
};

const std::vector<std::string>& column_meanings() {
    static const std::vector<std::string> meanings = {"path", "label", "part", "weight", "group"};
    return meanings;
}

std::string column_name(const ImageSource& source, const std::string& meaning) {
    const auto stated = source.columns.find(meaning);
    return stated == source.columns.end() ? meaning : stated->second;
}

// The place of a column: required when the plan names it.
std::ptrdiff_t find_column(const CsvReader& csv, const ImageSource& source, const std::string& meaning) {
    const std::string name = column_name(source, meaning);
    return source.columns.contains(meaning) ? static_cast<std::ptrdiff_t>(csv.require(name)) : csv.find(name);
}

struct IndexColumns {
    std::size_t path = 0;
    std::size_t label = 0;
    std::ptrdiff_t part = -1;
    std::ptrdiff_t weight = -1;
    std::ptrdiff_t group = -1;
};

IndexColumns find_columns(const CsvReader& csv, const ImageSource& source, ImageSet& set) {
    IndexColumns columns{.path = csv.require(column_name(source, "path")),
                         .label = csv.require(column_name(source, "label")),
                         .part = find_column(csv, source, "part"),
                         .weight = find_column(csv, source, "weight"),
                         .group = find_column(csv, source, "group")};
    std::string unused;
    for (const std::string& name : csv.columns()) {
        const auto is_used = [&](const std::string& meaning) { return column_name(source, meaning) == name; };
        if (std::none_of(column_meanings().begin(), column_meanings().end(), is_used))
            unused += fmt::format("{}'{}'", unused.empty() ? "" : ", ", printable(name));
    }
    if (!unused.empty())
        set.notes.push_back(fmt::format("columns of the index that are not used: {}", unused));
    return columns;
}

// InputError without a place when the cells cannot be an item.
Item read_item(const CsvRow& row, const IndexColumns& columns) {
    Item item;
    const std::string& path = row.cells[columns.path];
    if (path.empty()) throw InputError("the path is empty");
    const bool plain = path.find("./") == std::string::npos && path.find("//") == std::string::npos;
    item.path = plain ? path : fs::path(path).lexically_normal().generic_string();
    if (columns.part >= 0) {
        const std::string& cell = row.cells[static_cast<std::size_t>(columns.part)];
        item.part = part_from_name(cell);
        if (!cell.empty() && !item.part)
            throw InputError(
                fmt::format("part is '{}'; it may be training, validation or test", printable(cell)));
    }
    if (columns.group >= 0) item.group = row.cells[static_cast<std::size_t>(columns.group)];
    if (columns.weight >= 0) {
        const std::string& cell = row.cells[static_cast<std::size_t>(columns.weight)];
        const auto [end, error] = std::from_chars(cell.data(), cell.data() + cell.size(), item.weight);
        if (error != std::errc() || end != cell.data() + cell.size() || !(item.weight >= 0.0) ||
            !(item.weight <= 1e6))
            throw InputError(
                fmt::format("weight is '{}'; it may be a number from 0 to a million", printable(cell)));
    }
    return item;
}

// The same path twice under one label is one item; under two it is an error.
void require_single_labels(ImageSet& set, const std::vector<std::int64_t>& lines, RowErrors& errors) {
    // By hash, so that a million paths are compared as numbers.
    std::vector<std::pair<ContentHash, std::size_t>> order;
    order.reserve(set.items.size());
    for (std::size_t i = 0; i < set.items.size(); ++i)
        order.emplace_back(hash_of(std::as_bytes(std::span(set.items[i].path))), i);
    std::sort(order.begin(), order.end());
    std::vector<bool> again(set.items.size(), false);
    std::int64_t repeated = 0;
    for (std::size_t i = 1; i < order.size(); ++i) {
        if (order[i - 1].first != order[i].first) continue;
        const std::size_t before = order[i - 1].second;
        const std::size_t place = order[i].second;
        const Item& item = set.items[place];
        if (set.items[before].label != item.label)
            errors.add(lines[place], fmt::format("'{}' has another label in line {}; an item has one label",
                                                 printable(item.path), lines[before]));
        again[place] = true;
        ++repeated;
    }
    if (repeated == 0) return;
    set.notes.push_back(fmt::format("{} row{} of the index name{} a file a second time", repeated,
                                    repeated == 1 ? "" : "s", repeated == 1 ? "s" : ""));
    std::size_t kept = 0;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        if (again[i]) continue;
        if (kept != i) set.items[kept] = std::move(set.items[i]);
        ++kept;
    }
    set.items.resize(kept);
}

}  // namespace

void list_index(ImageSet& set, const ImageSource& source) {
    set.root = source.from.has_parent_path() ? source.from.parent_path() : fs::path(".");
    const std::string text = read_text(source.from, largest_table_file);
    const std::string name = printable(source.from.string());
    const CsvReader csv(text, name);
    const IndexColumns columns = find_columns(csv, source, set);
    RowErrors errors(name);
    std::vector<std::int64_t> lines;
    std::unordered_map<std::string, std::size_t> labels;  // by order of appearance
    std::vector<std::string> names;
    csv.for_each([&](const CsvRow& row) {
        try {
            Item item = read_item(row, columns);
            const std::string& label = row.cells[columns.label];
            if (label.empty()) {
                set.unlabelled.push_back(std::move(item));
                return;
            }
            const auto [known, added] = labels.emplace(label, names.size());
            if (added) names.push_back(label);
            item.label = known->second;
            set.items.push_back(std::move(item));
            lines.push_back(row.line);
        } catch (const InputError& error) {
            errors.add(row.line, error.what());
        }
    });
    require_single_labels(set, lines, errors);
    errors.finish();
    if (set.items.empty())
        throw InputError(
            fmt::format("{}: it names no labelled image; each row is one, with its path and label", name));
    set_classes(set, names, source, name);
    std::vector<std::size_t> places;
    for (const std::string& label : names)
        places.push_back(static_cast<std::size_t>(std::find(set.classes.begin(), set.classes.end(), label) -
                                                  set.classes.begin()));
    for (Item& item : set.items) item.label = places[item.label];
}

}  // namespace jevrin::inline v1
