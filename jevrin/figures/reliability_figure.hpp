// Reliability diagram.
#pragma once

#include "jevrin/metrics/calibration.hpp"

#include <filesystem>
#include <span>
#include <string>

namespace jevrin::inline v1 {

// Accuracy over confidence (reliability diagram), a point for each bin with Wilson's 95 % interval, its size
// by how many items it holds; below, how many there are. On the diagonal, confidence equals accuracy.
void draw_reliability(std::span<const ReliabilityBin> bins, const std::string& title,
                      const std::filesystem::path& file);

}  // namespace jevrin::inline v1
