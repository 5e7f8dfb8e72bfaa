// The settings of images, described: reading, writing, documents.
#pragma once

#include "jevrin/base/description.hpp"
#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/composition.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"

namespace jevrin::inline v1 {

const Description<Mixing>& description_of(const Mixing&);
const Description<Overlay>& description_of(const Overlay&);
const Description<Augmentation>& description_of(const Augmentation&);
const Description<ImageSource>& description_of(const ImageSource&);
const Description<Fitting>& description_of(const Fitting&);
const Description<Composition>& description_of(const Composition&);

// Of a network's input, in pixels.
inline constexpr std::int64_t smallest_side = 8;

// A number for a square, otherwise [height, width].
Json size_json(const ImageSize& size);

// Compiled once.
extern template class Description<Augmentation>;
extern template class Description<ImageSource>;
extern template class Description<Fitting>;
extern template class Description<Composition>;

}  // namespace jevrin::inline v1
