// Which images a model was trained on or chosen with, as it carries them: so that a test part which holds
// some of them is noticed wherever the model is used as a backbone.
#pragma once

#include "jevrin/base/hash.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class SeenImages {
  public:
    SeenImages() = default;
    explicit SeenImages(const std::vector<ContentHash>& images);

    // Eight hexadecimal digits for each. InputError without a file name.
    static SeenImages from_text(const std::string& text);
    std::string to_text() const;

    void add(const SeenImages& others);
    bool empty() const { return prefixes_.empty(); }
    // By 32 bits of its hash: of a million images that were not seen, fewer than 12 appear so for 50,000
    // seen.
    bool contains(const ContentHash& image) const;

  private:
    std::vector<std::uint32_t> prefixes_;  // sorted
};

}  // namespace jevrin::inline v1
