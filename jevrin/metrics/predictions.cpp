#include "jevrin/metrics/predictions.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t rows_at_a_time = 1024;
constexpr double sum_tolerance = 1e-3;

struct Faults {
    std::size_t labels = 0;
    std::size_t numbers = 0;
    std::size_t sums = 0;
    std::size_t first_label = 0;
    std::size_t first_number = 0;
    std::size_t first_sum = 0;
    double sum = 0.0;  // of the first row that does not sum to 1
};

Faults faults_of(const PredictionTable& table, IndexRange rows) {
    Faults faults;
    for (auto r = static_cast<std::size_t>(rows.begin); r < static_cast<std::size_t>(rows.end); ++r) {
        if (table.labels[r] >= table.classes && faults.labels++ == 0) faults.first_label = r;
        double sum = 0.0;
        bool fine = true;
        for (const float p : table.row(r)) {
            fine &= p >= 0.0F && p <= 1.0F + static_cast<float>(sum_tolerance);  // false for NaN
            sum += static_cast<double>(p);
        }
        if (!fine) {
            if (faults.numbers++ == 0) faults.first_number = r;
        } else if (std::abs(sum - 1.0) > sum_tolerance && faults.sums++ == 0) {
            faults.first_sum = r;
            faults.sum = sum;
        }
    }
    return faults;
}

// "'a', 'b', ..."
std::string some_names(const std::vector<std::string>& names) {
    constexpr std::size_t shown = 3;
    std::string text;
    for (std::size_t i = 0; i < std::min(names.size(), shown); ++i)
        text += fmt::format("{}'{}'", i == 0 ? "" : ", ", printable(names[i]));
    return text + (names.size() > shown ? ", ..." : "");
}

}  // namespace

std::size_t PredictionTable::predicted(std::size_t item) const {
    const auto values = row(item);
    return static_cast<std::size_t>(std::max_element(values.begin(), values.end()) - values.begin());
}

std::vector<std::size_t> PredictionTable::predicted() const {
    std::vector<std::size_t> result(items());
    const auto rows = static_cast<std::int64_t>(items());
    const std::int64_t chunks = (rows + rows_at_a_time - 1) / rows_at_a_time;
    parallel_for(chunks, [&](std::int64_t chunk) {
        const IndexRange range = chunk_range(rows, chunks, chunk);
        for (auto i = static_cast<std::size_t>(range.begin); i < static_cast<std::size_t>(range.end); ++i)
            result[i] = predicted(i);
    });
    return result;
}

void require_probabilities(const PredictionTable& table) {
    const std::size_t items = table.items();
    if (table.classes == 0 || table.probabilities.size() != items * table.classes)
        throw InputError(
            fmt::format("{} probabilities do not fit {} items and {} classes; there must be one for each "
                        "item and class",
                        table.probabilities.size(), items, table.classes));
    const auto rows = static_cast<std::int64_t>(items);
    const std::int64_t chunks = (rows + rows_at_a_time - 1) / rows_at_a_time;
    std::vector<Faults> by_chunk(static_cast<std::size_t>(chunks));
    parallel_for(chunks, [&](std::int64_t chunk) {
        by_chunk[static_cast<std::size_t>(chunk)] = faults_of(table, chunk_range(rows, chunks, chunk));
    });
    Faults all;
    for (const Faults& f : by_chunk) {
        if (all.labels == 0) all.first_label = f.first_label;
        if (all.numbers == 0) all.first_number = f.first_number;
        if (all.sums == 0) {
            all.first_sum = f.first_sum;
            all.sum = f.sum;
        }
        all.labels += f.labels;
        all.numbers += f.numbers;
        all.sums += f.sums;
    }
    if (all.labels > 0)
        throw InputError(fmt::format(
            "{} of {} labels are out of range (first: item {} has {}, classes are 0 to "
            "{}); give the index of the class",
            all.labels, items, all.first_label + 1, table.labels[all.first_label], table.classes - 1));
    if (all.numbers > 0)
        throw InputError(
            fmt::format("{} of {} predictions contain a number outside 0 to 1 (first: item {}); give "
                        "the softmax of the network's output",
                        all.numbers, items, all.first_number + 1));
    if (all.sums > 0)
        throw InputError(
            fmt::format("the probabilities of {} of {} predictions do not sum to 1 (first: item "
                        "{} with {:.4f}); give the softmax of the network's output",
                        all.sums, items, all.first_sum + 1, all.sum));
}

std::vector<std::size_t> places_of_items(std::span<const std::string> items,
                                         std::span<const std::string> predicted_items) {
    constexpr std::size_t nowhere = static_cast<std::size_t>(-1);
    std::unordered_map<std::string_view, std::size_t> places;
    for (const std::string& item : items) places.emplace(item, nowhere);
    std::vector<std::string> doubled;
    std::vector<std::string> unknown;
    for (std::size_t i = 0; i < predicted_items.size(); ++i) {
        const auto place = places.find(predicted_items[i]);
        if (place == places.end())
            unknown.push_back(predicted_items[i]);
        else if (place->second != nowhere)
            doubled.push_back(predicted_items[i]);
        else
            place->second = i;
    }
    std::vector<std::size_t> result;
    std::vector<std::string> missing;
    for (const std::string& item : items) {
        const std::size_t place = places.at(item);
        if (place == nowhere) missing.push_back(item);
        result.push_back(place);
    }
    std::string message;
    const auto complain = [&](const std::vector<std::string>& names, const char* what) {
        if (!names.empty())
            message += fmt::format("{}{} {} ({})", message.empty() ? "" : "; ", names.size(), what,
                                   some_names(names));
    };
    complain(missing, "missing");
    complain(doubled, "given more than once");
    complain(unknown, "of unknown items");
    if (!message.empty())
        throw InputError(
            fmt::format("predictions do not match the {} items: {}; give exactly one for each item",
                        items.size(), message));
    return result;
}

}  // namespace jevrin::inline v1
