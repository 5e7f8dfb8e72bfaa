#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/operator_forms.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// Sizes that networks are usually made for, tried where a file leaves its own open and does not work on every
// one.
constexpr std::int64_t usual_sizes[] = {224, 32,  64,  256, 384, 299, 96,  112, 128, 160, 192, 240,
                                        260, 288, 320, 300, 380, 448, 512, 28,  16,  8,   4};

Network network_of(const StoredModel& stored, const ReadSettings& settings) {
    GraphReader reader(stored, settings);
    Network network = rewrite(reader.read(), RewritingStage::after_reading);
    settle_shared(network);
    find_stages(network);
    if (!settings.output.empty() && !reader.ends_at_named())
        network = network_until(network, find_end(network, settings.output));
    return network;
}

// The size for which the file was made, when it works at that one.
std::optional<ImageSize> working_size(const StoredModel& stored, const ReadSettings& settings) {
    const auto works_at = [&](const std::optional<ImageSize>& size) -> std::optional<ImageSize> {
        ReadSettings other = settings;
        other.image_size = size;
        try {
            const Network network = network_of(stored, other);
            if (network.input.size() != 3) return std::nullopt;
            return ImageSize(network.input[0], network.input[1]);
        } catch (const InputError&) {
            return std::nullopt;
        }
    };
    if (const auto size = works_at(std::nullopt)) return size;
    for (const std::int64_t side : usual_sizes)
        if (const auto size = works_at(ImageSize(side))) return size;
    return std::nullopt;
}

}  // namespace

Model read_model(const std::filesystem::path& path, const ReadSettings& settings) {
    const std::string file = printable(path.string());
    try {
        const StoredModel stored = read_stored_model(path);
        Model model;
        model.metadata = stored.metadata;
        if (stored.opset > newest_opset)
            model.notes.push_back(
                fmt::format("it uses operator set {}, which is newer than {}; each of its operators is known "
                            "in an older form",
                            stored.opset, newest_opset));
        try {
            model.network = network_of(stored, settings);
        } catch (const InputError&) {
            const std::optional<ImageSize> made_for =
                settings.image_size ? working_size(stored, settings) : std::nullopt;
            if (!made_for || *made_for == *settings.image_size) throw;
            throw InputError(fmt::format(
                "it does not work on images of {}: it was made for {}; use that size{}",
                settings.image_size->text(), made_for->text(),
                settings.resample_positions
                    ? ""
                    : ", or, for a transformer with learned positions, set 'resample_positions'"));
        }
        return model;
    } catch (const InputError& error) {
        if (error.place() == ErrorPlace::file) throw;
        throw InputError::in_file(file, error.what());
    }
}

}  // namespace jevrin::inline v1
