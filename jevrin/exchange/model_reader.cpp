#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

Model read_model(const std::filesystem::path& path, const ReadSettings& settings) {
    const std::string file = printable(path.string());
    try {
        const StoredModel stored = read_stored_model(path);
        Model model;
        GraphReader reader(stored, settings);
        model.network = rewrite(reader.read(), RewritingStage::after_reading);
        find_stages(model.network);
        if (!settings.output.empty() && !reader.ends_at_named())
            model.network = network_until(model.network, find_end(model.network, settings.output));
        model.metadata = stored.metadata;
        return model;
    } catch (const InputError& error) {
        if (error.place() == ErrorPlace::file) throw;
        throw InputError::in_file(file, error.what());
    }
}

}  // namespace jevrin::inline v1
