// The settings of plans, described: reading, writing, documents.
#pragma once

#include "jevrin/base/description.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/plan/run_settings.hpp"

namespace jevrin::inline v1 {

// The [images] table without what only says where the images lie: ImageSource.
const Description<ImagesPlan>& description_of(const ImagesPlan&);
// What a candidate's results depend on; its name, backbone and variants are read beside it.
const Description<Unfreezing>& description_of(const Unfreezing&);
const Description<Candidate>& description_of(const Candidate&);
const Description<RunImages>& description_of(const RunImages&);
const Description<RunSettings>& description_of(const RunSettings&);

// Compiled once.
extern template class Description<ImagesPlan>;
extern template class Description<Unfreezing>;
extern template class Description<Candidate>;
extern template class Description<RunImages>;
extern template class Description<RunSettings>;

// A whole [images] table.
ImagesPlan read_images(TableReader reader);
// The key `scaling` of [images] and [backbone].
StatedScaling read_scaling(TableReader& reader, const std::string& key);
Json scaling_json(const StatedScaling& scaling);

}  // namespace jevrin::inline v1
