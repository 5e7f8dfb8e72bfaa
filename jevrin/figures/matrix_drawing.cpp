#include "jevrin/figures/matrix_drawing.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/metrics/class_order.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {

std::string name_of(const std::vector<std::string>& classes, std::size_t one) {
    constexpr std::size_t longest_name = 24;
    return shortened_name(classes.at(one), longest_name);
}

std::string shade_data(const std::string& block, const std::vector<std::vector<double>>& fractions) {
    std::string data = block + " << EOD\n";
    for (std::size_t i = 0; i < fractions.size(); ++i)
        for (std::size_t j = 0; j < fractions.size(); ++j)
            data += fmt::format("{} {} {}\n", j, i, fractions[i][j]);
    return data + "EOD\n";
}

std::vector<std::size_t> display_order(const ConfusionMatrix& matrix) {
    if (matrix.classes() > most_with_figures) return order_by_confusion(matrix);
    std::vector<std::size_t> order(matrix.classes());
    std::iota(order.begin(), order.end(), std::size_t{0});
    return order;
}

std::string class_tics(const std::vector<std::string>& classes, const std::vector<std::size_t>& order,
                       std::size_t most) {
    const std::size_t step = (order.size() + most - 1) / std::max<std::size_t>(1, most);
    std::string tics;
    for (std::size_t place = 0; place < order.size(); place += std::max<std::size_t>(1, step))
        tics += fmt::format("{}{} {}", place == 0 ? "" : ", ", gnuplot_tic(name_of(classes, order[place])),
                            place);
    return tics;
}

}  // namespace jevrin::inline v1
