// Dominators: the nodes that every way from the image to a node passes.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstddef>
#include <limits>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

class Dominators {
  public:
    explicit Dominators(const Network& network);
    // The same of any graph by the nodes that each reads, which stand before it; node 0 is the image.
    explicit Dominators(const std::vector<std::vector<std::size_t>>& inputs);

    // Whether the value of a node depends on the image; constants and what is made of them do not.
    bool depends_on_image(std::size_t node) const { return nearest_[node] != none; }
    // The last of the nodes, other than itself, that every way from the image to this node passes; of the
    // input, itself.
    std::size_t nearest(std::size_t node) const { return nearest_[node]; }
    // The last node that every way to both nodes passes; both count themselves.
    std::size_t common(std::size_t a, std::size_t b) const;
    // All of them of a node, from the input to itself.
    std::vector<std::size_t> chain(std::size_t node) const;

  private:
    static constexpr std::size_t none = std::numeric_limits<std::size_t>::max();

    void add(std::span<const std::size_t> inputs);

    std::vector<std::size_t> nearest_;
};

}  // namespace jevrin::inline v1
