#include "jevrin/metrics/class_order.hpp"

#include <algorithm>
#include <cassert>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

struct Pair {
    double share = 0.0;
    std::size_t first = 0;
    std::size_t second = 0;
};

std::vector<Pair> confused_pairs(const ConfusionMatrix& matrix) {
    const std::size_t n = matrix.classes();
    std::vector<double> supports(n);
    for (std::size_t c = 0; c < n; ++c) supports[c] = static_cast<double>(matrix.support(c));
    std::vector<Pair> pairs;
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = i + 1; j < n; ++j) {
            const auto exchanged = static_cast<double>(matrix.at(i, j) + matrix.at(j, i));
            if (exchanged > 0.0) pairs.push_back({exchanged / (supports[i] + supports[j]), i, j});
        }
    std::stable_sort(pairs.begin(), pairs.end(),
                     [](const Pair& a, const Pair& b) { return a.share > b.share; });
    return pairs;
}

}  // namespace

std::vector<std::size_t> order_by_confusion(const ConfusionMatrix& matrix) {
    const std::size_t n = matrix.classes();
    std::vector<std::vector<std::size_t>> neighbours(n);
    std::vector<std::size_t> chain(n);  // the lowest class of the chain that each belongs to, by following it
    std::iota(chain.begin(), chain.end(), std::size_t{0});
    const auto chain_of = [&](std::size_t c) {
        while (chain[c] != c) c = chain[c] = chain[chain[c]];
        return c;
    };
    for (const Pair& pair : confused_pairs(matrix)) {
        const std::size_t a = chain_of(pair.first);
        const std::size_t b = chain_of(pair.second);
        if (a == b || neighbours[pair.first].size() == 2 || neighbours[pair.second].size() == 2) continue;
        neighbours[pair.first].push_back(pair.second);
        neighbours[pair.second].push_back(pair.first);
        chain[std::max(a, b)] = std::min(a, b);
    }
    std::vector<std::size_t> order;
    std::vector<bool> placed(n, false);
    for (std::size_t lowest = 0; lowest < n; ++lowest) {
        if (placed[lowest]) continue;
        // From the end of its chain that comes first.
        std::vector<std::size_t> ends;
        for (std::size_t c = lowest; c < n; ++c)
            if (chain_of(c) == lowest && neighbours[c].size() < 2) ends.push_back(c);
        std::size_t at = ends.front();
        for (bool more = true; more;) {
            placed[at] = true;
            order.push_back(at);
            more = false;
            for (const std::size_t next : neighbours[at])
                if (!placed[next]) {
                    at = next;
                    more = true;
                    break;
                }
        }
    }
    assert(order.size() == n);
    return order;
}

ConfusionMatrix reordered(const ConfusionMatrix& matrix, const std::vector<std::size_t>& order) {
    ConfusionMatrix result(matrix.classes());
    for (std::size_t i = 0; i < order.size(); ++i)
        for (std::size_t j = 0; j < order.size(); ++j) result.add(i, j, matrix.at(order[i], order[j]));
    return result;
}

}  // namespace jevrin::inline v1
