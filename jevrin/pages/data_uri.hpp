// Images inside JSON and HTML: "data:image/png;base64,..." (RFC 2397).
#pragma once

#include "jevrin/images/image.hpp"

#include <cstddef>
#include <span>
#include <string>

namespace jevrin::inline v1 {

// RFC 4648, section 4.
std::string base64(std::span<const std::byte> bytes);
std::string data_uri(const Image& image);

}  // namespace jevrin::inline v1
