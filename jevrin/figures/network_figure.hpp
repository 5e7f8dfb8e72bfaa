// A network as a figure: its layers from top to bottom, column by column.
#pragma once

#include "jevrin/graph/layer_table.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Frozen layers are grey, trained ones coloured; lines beside a column are values that skip layers.
void draw_network(const std::vector<LayerRow>& layers, const std::string& title,
                  const std::filesystem::path& file);

}  // namespace jevrin::inline v1
