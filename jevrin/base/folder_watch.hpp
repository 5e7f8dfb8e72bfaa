// New files in a folder, each reported once it is written completely.
//
//     FolderWatch watch("frames");
//     for (;;)
//         for (const auto& file : watch.next(1.0)) ...
#pragma once

#include <filesystem>
#include <vector>

namespace jevrin::inline v1 {

class FolderWatch {
  public:
    // InputError when there is no such folder. Files that are there already are not told.
    explicit FolderWatch(const std::filesystem::path& folder);
    ~FolderWatch();
    FolderWatch(const FolderWatch&) = delete;
    FolderWatch& operator=(const FolderWatch&) = delete;

    // Files that were closed after writing, or moved here, since the last call, in that order; waits so many
    // seconds for the first. Hidden ones are passed over. WorkError when the folder is gone.
    std::vector<std::filesystem::path> next(double seconds);

  private:
    std::filesystem::path folder_;
    int descriptor_ = -1;
};

}  // namespace jevrin::inline v1
