#include "jevrin/training/seen_images.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t digits = 8;

std::uint32_t prefix_of(const ContentHash& image) {
    return static_cast<std::uint32_t>(image.high >> 32);
}

}  // namespace

SeenImages::SeenImages(const std::vector<ContentHash>& images) {
    for (const ContentHash& image : images) prefixes_.push_back(prefix_of(image));
    std::sort(prefixes_.begin(), prefixes_.end());
}

SeenImages SeenImages::from_text(const std::string& text) {
    SeenImages seen;
    for (std::size_t at = 0; at < text.size(); at += digits) {
        std::uint32_t prefix = 0;
        const char* const begin = text.data() + at;
        const char* const end = begin + std::min(digits, text.size() - at);
        const auto [stop, error] = std::from_chars(begin, end, prefix, 16);
        if (error != std::errc() || stop != begin + digits)
            throw InputError("its list of the images it has seen is invalid");
        seen.prefixes_.push_back(prefix);
    }
    std::sort(seen.prefixes_.begin(), seen.prefixes_.end());
    return seen;
}

std::string SeenImages::to_text() const {
    std::string text;
    for (const std::uint32_t prefix : prefixes_) text += fmt::format("{:08x}", prefix);
    return text;
}

void SeenImages::add(const SeenImages& others) {
    prefixes_.insert(prefixes_.end(), others.prefixes_.begin(), others.prefixes_.end());
    std::sort(prefixes_.begin(), prefixes_.end());
    prefixes_.erase(std::unique(prefixes_.begin(), prefixes_.end()), prefixes_.end());
}

bool SeenImages::contains(const ContentHash& image) const {
    return std::binary_search(prefixes_.begin(), prefixes_.end(), prefix_of(image));
}

}  // namespace jevrin::inline v1
