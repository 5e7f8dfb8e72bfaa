// Fitted pictures kept on disk, so that each is decoded and resized once: written once, shared by all runs.
//
//     PictureStore store("ledger/stores", fitting, set.items.size());
//     if (const std::uint8_t* pixels = store.find(item.content)) ...
//
// Pictures are found by the hash of the file they came from, and each has a checksum that is held against its
// bytes whenever it is taken out: what is damaged counts as missing. The store may be deleted at any time; a
// store of another fitting is another file. When the disk is full, or another process writes, nothing more is
// kept and nothing else changes.
#pragma once

#include "jevrin/base/hash.hpp"
#include "jevrin/images/preparation.hpp"

#include <cstdint>
#include <filesystem>
#include <mutex>
#include <optional>
#include <span>
#include <unordered_map>

namespace jevrin {

class PictureStore {
  public:
    // The store of this fitting in a directory (which is made), with room for so many more pictures; without
    // a directory one that disappears with this object.
    PictureStore(const std::optional<std::filesystem::path>& directory, const Fitting& fitting,
                 std::int64_t capacity);
    ~PictureStore();
    PictureStore(const PictureStore&) = delete;
    PictureStore& operator=(const PictureStore&) = delete;

    const Fitting& fitting() const { return fitting_; }
    std::int64_t size() const;

    // [size, size, channels], valid as long as the store; null when it is missing or damaged. May be called
    // from several threads, as may put().
    const std::uint8_t* find(const ContentHash& content) const;
    void put(const ContentHash& content, std::span<const std::uint8_t> pixels);

    // Whether put() still keeps anything.
    bool accepts() const;

    // The files of a store in a directory, for those who look after the disk.
    static std::filesystem::path pictures_file(const std::filesystem::path& directory,
                                               const Fitting& fitting);
    static std::filesystem::path index_file(const std::filesystem::path& directory, const Fitting& fitting);

  private:
    struct Entry {
        ContentHash content;
        std::uint64_t checksum = 0;
    };
    struct Record {
        std::int64_t place = 0;
        std::uint64_t checksum = 0;
    };

    void open_files(const std::filesystem::path& directory);
    void open_anonymous();
    void read_index();
    void map_pictures();

    Fitting fitting_;
    std::int64_t capacity_ = 0;
    int pictures_ = -1;  // file descriptors
    int index_ = -1;     // -1: the index is kept in memory alone
    bool writable_ = false;
    const std::uint8_t* mapped_ = nullptr;
    std::size_t mapped_bytes_ = 0;
    mutable std::mutex mutex_;
    std::int64_t stored_ = 0;  // records in the file, damaged ones too
    std::unordered_map<ContentHash, Record> records_;
};

}  // namespace jevrin
