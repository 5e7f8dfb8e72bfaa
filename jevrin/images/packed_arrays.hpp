// Arrays that are stored compressed: an IDX or NPY file in gzip, and the members of an NPZ archive.
#pragma once

#include "jevrin/images/number_array.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// An array file, or a member of an archive: "digits.npz/x_train".
struct ArrayPlace {
    std::filesystem::path file;
    std::string member;  // empty: the file itself
};
// InputError when there is neither.
ArrayPlace find_array(const std::filesystem::path& path);

// Whether bytes begin a gzip file, or a zip archive.
bool is_gzip(std::span<const std::byte> beginning);
bool is_archive(std::span<const std::byte> beginning);

// What a compressed array unpacks to: no more than its own header says.
struct UnpackedArray {
    ArrayLayout layout;
    std::vector<std::byte> bytes;  // header included
};
// InputError names the file, and says when it is truncated or damaged, holds another number of bytes than its
// header says, or would not fit the memory.
UnpackedArray unpack_array(const ArrayPlace& place);

// The members of an archive that are arrays, with their layouts, by name and without ".npy".
struct ArchiveMember {
    std::string name;
    ArrayLayout layout;
};
std::vector<ArchiveMember> list_archive(const std::filesystem::path& file);

}  // namespace jevrin::inline v1
