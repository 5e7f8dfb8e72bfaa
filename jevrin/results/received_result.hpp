// Images that the users of a model sent back, and what became of them.
#pragma once

#include "jevrin/external/received_images.hpp"
#include "jevrin/results/form.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct ReceivedResult {
    std::vector<ReceivedImage> images;
    std::optional<ReceivedImages::Written> written;
};

// Where accepted images go; none when root is empty.
struct ReceivedPlaces {
    std::filesystem::path root;        // of an image set in folders by class
    std::filesystem::path unlabelled;  // those of none of the classes
};

// Those of a ledger; all, or only those that wait; without images that are in a test part by now. InputError
// when there is no ledger.
ReceivedResult report_received(const std::filesystem::path& ledger, bool all,
                               const ReceivedPlaces& places = {});
// The images of these numbers, reviewed. A label replaces the sender's; an empty one means none of the
// classes. InputError when there is no ledger or a number is not known; then none is reviewed.
ReceivedResult review_received(const std::filesystem::path& ledger, const std::vector<std::int64_t>& numbers,
                               Review review, const std::optional<std::string>& label = std::nullopt);

std::string to_json(const ReceivedResult& result);
std::string to_text(const ReceivedResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
