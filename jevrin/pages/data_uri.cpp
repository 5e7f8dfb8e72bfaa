#include "jevrin/pages/data_uri.hpp"

#include <boost/archive/iterators/base64_from_binary.hpp>
#include <boost/archive/iterators/transform_width.hpp>

namespace jevrin::inline v1 {

std::string base64(std::span<const std::byte> bytes) {
    using namespace boost::archive::iterators;
    using Letters = base64_from_binary<transform_width<const char*, 6, 8>>;
    const char* const begin = reinterpret_cast<const char*>(bytes.data());
    std::string text(Letters(begin), Letters(begin + bytes.size()));
    text.append((3 - bytes.size() % 3) % 3, '=');
    return text;
}

std::string data_uri(const Image& image) {
    return "data:image/png;base64," + base64(encode_png(image));
}

}  // namespace jevrin::inline v1
