// Checkpoints: the state of a run in progress, one file, written whole or not at all.
#pragma once

#include "jevrin/training/training_state.hpp"

#include <cstddef>
#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

// WorkError when it cannot be written; a checkpoint that stood there before stays whole.
void write_checkpoint(const std::filesystem::path& path, const TrainingState& state);

// What such a file holds.
std::vector<std::byte> checkpoint_bytes(const TrainingState& state);

// InputError when the file is missing, cut short or altered (it ends in a hash of all that comes before).
TrainingState read_checkpoint(const std::filesystem::path& path);
// The same of what a file held; name is what it is called in messages.
TrainingState read_checkpoint(std::string_view bytes, const std::string& name);

}  // namespace jevrin::inline v1
