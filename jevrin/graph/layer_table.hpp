// A network as a table: one row for each weighted or other main layer, including the small ones after it.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct LayerRow {
    std::string name;       // of its first node
    std::string stage;      // of that node
    std::string operators;  // "convolution 3x3 /2, batch normalisation, relu"
    Shape shape;            // of one image, behind it
    std::int64_t parameters = 0;
    std::int64_t multiplications = 0;  // forward, for one image
    std::int64_t bytes = 0;            // of its values, for one image
    bool trains = false;               // any of it is not frozen
    std::vector<std::size_t> reads;    // earlier rows whose values it reads
    std::size_t last = 0;              // the node that its value is of
};

struct StageRow {
    std::string stage;
    std::int64_t layers = 0;
    Shape shape;  // of one image, behind the last of them
    std::int64_t parameters = 0;
    std::int64_t multiplications = 0;
    std::int64_t bytes = 0;
    std::int64_t trained = 0;  // of the parameters, in layers of which some train
    std::int64_t frozen = 0;
};

// A row for each layer in the order in which they are computed; normalisations and activations belong to the
// layer before them, constants to the one that reads them.
std::vector<LayerRow> layer_table(const Network& network);

// The same by stage, in order of first appearance.
std::vector<StageRow> stage_table(const std::vector<LayerRow>& layers);

}  // namespace jevrin::inline v1
