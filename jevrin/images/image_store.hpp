// Fitted images kept on disk, so that each is decoded and resized once: written once, shared by all runs.
//
//     ImageStore store("ledger/stores", fitting, set.items.size());
//     if (store.read(item.content, pixels)) ...
//
// Images are found by the hash of the file they came from; see RowStore for what a store promises.
#pragma once

#include "jevrin/base/row_store.hpp"
#include "jevrin/images/preparation.hpp"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <span>

namespace jevrin::inline v1 {

class ImageStore {
  public:
    // The store of this fitting in a directory (which is made), with room for so many more images; without
    // a directory one that disappears with this object.
    ImageStore(const std::optional<std::filesystem::path>& directory, const Fitting& fitting,
               std::int64_t capacity)
        : fitting_(fitting), rows_(settings_of(directory, fitting, capacity)) {}

    const Fitting& fitting() const { return fitting_; }
    std::int64_t size() const { return rows_.size(); }

    // Fills pixels [size, size, channels]; false, with any content, when they are missing or damaged. May be
    // called from several threads, as may put().
    bool read(const ContentHash& content, std::span<std::uint8_t> pixels) const {
        return rows_.read(content, std::as_writable_bytes(pixels));
    }
    void put(const ContentHash& content, std::span<const std::uint8_t> pixels) {
        rows_.put(content, std::as_bytes(pixels));
    }

    // Whether its directory still keeps what is put.
    bool accepts() const { return rows_.accepts(); }

    static RowStoreSettings settings_of(const std::optional<std::filesystem::path>& directory,
                                        const Fitting& fitting, std::int64_t capacity) {
        return {.directory = directory,
                .kind = "pictures",
                .identity = fitting.key(),
                .row_bytes = fitting.values(),
                .capacity = capacity};
    }

  private:
    Fitting fitting_;
    RowStore rows_;
};

}  // namespace jevrin::inline v1
