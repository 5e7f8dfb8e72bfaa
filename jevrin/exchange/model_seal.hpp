// The end of a model file that Jevrin wrote: a metadata entry with the content hash of everything before it.
#pragma once

#include <string>

namespace jevrin::inline v1 {

inline constexpr const char* hash_key = "jevrin.hash";

// The bytes of the entry, always so many for a hash.
std::string model_seal(const std::string& hash);

}  // namespace jevrin::inline v1
