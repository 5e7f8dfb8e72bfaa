// Items whose images are to be shown, each with its caption.
#pragma once

#include "jevrin/ledger/records.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct ShownItem {
    ItemRecord item;
    std::vector<std::string> lines;  // at most 3
    bool wrong = false;              // how its frame is drawn
};

// "tile-014.png", of an item's id.
std::string file_name_of_item(const std::string& id);

}  // namespace jevrin::inline v1
