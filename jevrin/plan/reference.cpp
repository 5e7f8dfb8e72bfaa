#include "jevrin/plan/reference.hpp"

#include "jevrin/graph/descriptions.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jevrin::inline v1 {
namespace {

std::string row(const SettingInfo& info) {
    std::string meaning = info.meaning;
    const auto add = [&](const std::string& more) { meaning += (meaning.empty() ? "" : "; ") + more; };
    if (!info.applies.empty()) add("only " + info.applies);
    if (!info.former.empty()) add(fmt::format("formerly `{}`", fmt::join(info.former, "`, `")));
    const std::string standard = info.required                ? "required"
                                 : info.default_value.empty() ? ""
                                                              : "`" + info.default_value + "`";
    const std::string type = info.unit.empty() ? info.type : fmt::format("{} ({})", info.type, info.unit);
    return fmt::format("| `{}` | {} | {} | {} |\n", info.key, type, standard, meaning);
}

std::string table(const std::string& title, const std::vector<SettingInfo>& infos) {
    std::string text =
        fmt::format("#### {}\n\n| key | type | default | meaning |\n| --- | --- | --- | --- |\n", title);
    for (const SettingInfo& info : infos) text += row(info);
    return text + "\n";
}

template <typename S>
std::string table_of(const std::string& title) {
    return table(title, description_of(S{}).infos());
}

}  // namespace

std::string settings_reference() {
    std::string text = table("`[images]`: where the images lie", description_of(ImageSource{}).infos());
    text += table_of<ImagesPlan>("`[images]`: parts and preparation");
    text += table_of<Candidate>("`[[candidate]]`, beside `name`, `backbone` and `vary`");
    text += table_of<Unfreezing>("`[[candidate.unfreeze]]`");
    text += table_of<HeadSettings>("`[candidate.head]`");
    text += table_of<TrainingSettings>("`[training]` and `[candidate.training]`");
    text += table_of<OptimiserSettings>("`[training.optimiser]`");
    text += table_of<Schedule>("`[training.schedule]`");
    text += table_of<LossSettings>("`[training.loss]`");
    text += table_of<Augmentation>("`[training.augment]` and `[compose.augment]`");
    text += table_of<Mixing>("`[training.augment.mixing]`");
    text += table_of<Overlay>("`[[training.augment.overlay]]` and `[[overlay]]`");
    for (const auto& [family, infos] : family_infos())
        text += table(fmt::format("`[candidate.network]` with `family = \"{}\"`", family), infos);
    text += table_of<InvertedStage>("`[[candidate.network.stages]]` of inverted residual networks");
    text += table_of<Layer>("`[[candidate.network.layers]]`");
    text += table_of<Composition>("`[compose]`");
    return text;
}

}  // namespace jevrin::inline v1
