#include "jevrin/results/shown_items.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

std::string file_name_of_item(const std::string& id) {
    return std::filesystem::path(path_of_item(id)).filename().string();
}

}  // namespace jevrin::inline v1
