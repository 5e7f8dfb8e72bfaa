// The settings of networks, described: families, layers, heads.
#pragma once

#include "jevrin/base/description.hpp"
#include "jevrin/graph/architecture.hpp"

namespace jevrin::inline v1 {

const EnumNames<ResidualBlock>& names_of(ResidualBlock);

const Description<ResidualSettings>& description_of(const ResidualSettings&);
const Description<PlainSettings>& description_of(const PlainSettings&);
const Description<PerceptronSettings>& description_of(const PerceptronSettings&);
const Description<DenselyConnectedSettings>& description_of(const DenselyConnectedSettings&);
const Description<InvertedStage>& description_of(const InvertedStage&);
const Description<InvertedResidualSettings>& description_of(const InvertedResidualSettings&);
const Description<VisionTransformerSettings>& description_of(const VisionTransformerSettings&);
const Description<Layer>& description_of(const Layer&);
const Description<HeadSettings>& description_of(const HeadSettings&);

// Compiled once.
extern template class Description<HeadSettings>;

// A [network] table: a family with its settings, or a list of layers. InputError with the place of what is
// wrong.
Architecture read_architecture(TableReader reader);
Json complete_json(const Architecture& architecture);
Json canonical_json(const Architecture& architecture);

// The families by name, each with its settings, for documents.
std::vector<std::pair<std::string, std::vector<SettingInfo>>> family_infos();

}  // namespace jevrin::inline v1
