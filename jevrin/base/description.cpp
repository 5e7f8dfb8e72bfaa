#include "jevrin/base/description.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jevrin::inline v1::detail {

std::string number_words(double low, double high) {
    return fmt::format("number from {} to {}", low, high);
}

std::string integer_words(std::int64_t low, std::int64_t high) {
    return fmt::format("integer from {} to {}", low, high);
}

std::string one_of_words(const std::vector<std::string>& names) {
    return fmt::format("one of {}", fmt::join(names, ", "));
}

std::pair<double, double> read_pair(TableReader& reader, const std::string& key, double low, double high) {
    const std::vector<double> values = reader.numbers(key, low, high);
    reader.at(key, [&] {
        if (values.size() != 2 || values[0] > values[1])
            throw InputError(fmt::format("'{}' needs two numbers: the smallest and the largest", key));
    });
    return {values[0], values[1]};
}

}  // namespace jevrin::inline v1::detail
