// An on-disk cache of rows of equal size, keyed by the hash of their source; shared between processes.
//
//     RowStore store({.directory = "ledger/stores", .kind = "pictures", .identity = "64 pad", .row_bytes =
//     12288,
//                     .capacity = 1000});
//     if (store.read(content, row)) ...
//
// Each row has a checksum that is held against its bytes whenever it is taken out: what is damaged counts as
// missing. A store may be deleted at any time; one of another identity is another file. Where its directory
// cannot keep a row (a full disk, no right to write, another process that writes), a temporary file does as
// long as there is room, and nothing else changes.
#pragma once

#include "jevrin/base/hash.hpp"

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <unordered_map>

namespace jevrin::inline v1 {

struct RowStoreSettings {
    // Made when it is missing; without one the store disappears with its object.
    std::optional<std::filesystem::path> directory;
    std::string kind;      // the first part of the files' names
    std::string identity;  // everything that the bytes depend on besides the content
    std::int64_t row_bytes = 0;
    std::int64_t capacity = 0;  // room for so many more rows
};

class RowStore {
  public:
    explicit RowStore(RowStoreSettings settings);
    ~RowStore();
    RowStore(const RowStore&) = delete;
    RowStore& operator=(const RowStore&) = delete;

    std::int64_t row_bytes() const { return settings_.row_bytes; }
    std::int64_t size() const;

    // Fills row [row_bytes]; false, with any content, when it is missing or damaged. May be called from
    // several threads, as may put().
    bool read(const ContentHash& content, std::span<std::byte> row) const;
    void put(const ContentHash& content, std::span<const std::byte> row);

    // Whether its directory still keeps what is put.
    bool accepts() const;

    // The files of a store in a directory, for those who look after the disk.
    static std::filesystem::path rows_file(const RowStoreSettings& settings);
    static std::filesystem::path index_file(const RowStoreSettings& settings);

  private:
    struct Entry {
        ContentHash content;
        std::uint64_t checksum = 0;
    };
    struct Record {
        std::int64_t place = 0;
        std::uint64_t checksum = 0;
    };

    std::string heading() const;
    void open_files();
    void open_anonymous();
    void read_index();
    bool append(const Entry& entry, std::span<const std::byte> row);

    RowStoreSettings settings_;
    int rows_ = -1;   // file descriptors
    int index_ = -1;  // -1: the index is kept in memory alone
    bool writable_ = false;
    std::int64_t most_ = 0;  // rows that the file may have
    mutable std::mutex mutex_;
    std::int64_t stored_ = 0;  // rows in the file, damaged ones too
    std::unordered_map<ContentHash, Record> records_;
    std::unique_ptr<RowStore> overflow_;  // takes what the directory cannot
};

}  // namespace jevrin::inline v1
