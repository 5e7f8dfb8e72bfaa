// What Jevrin says of a model file in its metadata: at the end, the content hash of everything before it.
#pragma once

#include <string>

namespace jevrin::inline v1 {

inline constexpr const char* hash_key = "jevrin.hash";

// Of files with nodes around the network: which values are its input (with its shape) and its output.
inline constexpr const char* network_key = "jevrin.network";

// The bytes of the entry, always so many for a hash.
std::string model_seal(const std::string& hash);

}  // namespace jevrin::inline v1
