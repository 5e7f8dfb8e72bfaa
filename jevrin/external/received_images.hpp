// Images that the users of a model sent back because its answer was wrong, kept beside a ledger until
// somebody has reviewed them: received.db.
//
//     ReceivedImages received(directory);
//     received.add({.name = "tile.png", .label = "spiral", .model = "tiles", ...}, bytes);
//     received.review({1}, Review::accepted);
//     received.write_into("images", "unlabelled");   // the next version of the image set
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class Review { waiting, accepted, rejected };
const EnumNames<Review>& names_of(Review);

struct ReceivedImage {
    std::int64_t number = 0;   // set by the store
    std::string content = {};  // hash of the bytes; set by the store
    std::string name = {};     // as the sender says it
    std::string label = {};  // what it is, as the sender says it, or the reviewer; empty: none of the classes
    std::string note = {};
    std::string model = {};  // whose answer was wrong
    std::int64_t version = 0;
    std::string predicted = {};  // that answer
    double probability = 0.0;
    std::string sender = {};    // the name of a key
    std::string received = {};  // UTC; set by the store
    Review review = Review::waiting;
    std::string written = {};  // the file it became; empty: none yet
};

// One connection; serves one thread at a time. InputError and WorkError name the file.
class ReceivedImages {
  public:
    // Makes the file when there is none.
    explicit ReceivedImages(const std::filesystem::path& directory);
    ~ReceivedImages();
    ReceivedImages(ReceivedImages&&) noexcept;
    ReceivedImages& operator=(ReceivedImages&&) noexcept;

    static bool exists(const std::filesystem::path& directory);

    struct Added {
        std::int64_t number = 0;
        bool is_new = false;  // false: the same sender has said the same of the same image
    };
    // What the same sender said of the same image before is replaced as long as it waits. ConflictError when
    // that was reviewed and said something else; InputError when too many images wait already.
    Added add(const ReceivedImage& image, std::span<const std::byte> bytes);

    // By number.
    std::vector<ReceivedImage> list() const;
    // InputError when there is none of this number.
    std::vector<std::byte> bytes(std::int64_t number) const;
    // All or none. A label replaces the sender's; an empty one means none of the classes. InputError when
    // there is none of a number, or it was written already.
    void review(const std::vector<std::int64_t>& numbers, Review review,
                const std::optional<std::string>& label = std::nullopt);

    struct Written {
        std::int64_t labelled = 0;
        std::int64_t unlabelled = 0;
        std::int64_t left = 0;  // of none of the classes, without a folder for them
    };
    // Writes the accepted images that are not written yet as root/LABEL/received-CONTENT.png (jpg, webp,
    // ...), and those of none of the classes into the other folder, if there is one. InputError when a label
    // cannot be a folder.
    Written write_into(const std::filesystem::path& root, const std::filesystem::path& unlabelled = {});

    static constexpr std::int64_t most_waiting = 10'000;
    static constexpr std::size_t largest_image = std::size_t{32} << 20;  // bytes

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
