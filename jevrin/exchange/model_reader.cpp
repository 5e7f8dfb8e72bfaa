#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/graph/simplify.hpp"

#include <fmt/format.h>

namespace jevrin {

Model read_model(const std::filesystem::path& path, const ReadSettings& settings) {
    const std::string file = printable(path.string());
    try {
        const StoredModel stored = read_stored_model(path);
        Model model;
        model.network = simplify(GraphReader(stored, settings).read());
        model.metadata = stored.metadata;
        return model;
    } catch (const InputError& error) {
        if (std::string_view(error.what()).starts_with(file + ": ")) throw;
        throw InputError(fmt::format("{}: {}", file, error.what()));
    }
}

}  // namespace jevrin
