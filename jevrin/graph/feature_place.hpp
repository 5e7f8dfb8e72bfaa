// Where the features of a backbone are: the value from which a classifier at its end makes the classes, or
// the output when no classifier stands there.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstddef>
#include <string>

namespace jevrin::inline v1 {

struct FeaturePlace {
    std::size_t node = 0;      // whose value the features are
    std::size_t head = 0;      // the first node of the classifier behind them; 0 without one
    std::string why;           // "the input of the last dense layer 'fc'"
    std::string unusual = {};  // what a user should look at; empty: nothing
};

// Every way from the image to the output passes the node. A classifier is what append_head() added, or the
// last dense layer (or the last convolution of a 1x1 map) when nothing but softmax, sigmoid, scaling by
// numbers and changes of shape stands behind it; several of these that are joined are one classifier. With a
// softmax at the end, pooling may stand there too.
FeaturePlace find_features(const Network& network);

// A backbone: the network up to its features, as a vector: the mean over the places of a map, or over rows
// of tokens. InputError when the value is neither.
Network without_head(const Network& network, const FeaturePlace& features);

}  // namespace jevrin::inline v1
