// The source task of the demo's backbone: photographs of many kinds of surfaces.
#pragma once

#include "jevrin/images/image.hpp"
#include "jevrin/images/image_set.hpp"

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::demo {

std::vector<std::string> surface_names();

// One picture of a kind of surface, [64, 64].
Image draw_surface(std::size_t kind, std::uint64_t number, std::uint64_t seed);

inline constexpr std::int64_t pictures_per_surface = 260;

void write_surfaces(const std::filesystem::path& folder, std::uint64_t seed,
                    const ReadProgress& progress = {});

}  // namespace jevrin::demo
