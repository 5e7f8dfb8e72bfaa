#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/graph/rewriting.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

Model read_model(const std::filesystem::path& path, const ReadSettings& settings) {
    const std::string file = printable(path.string());
    try {
        const StoredModel stored = read_stored_model(path);
        Model model;
        model.network = rewrite(GraphReader(stored, settings).read(), RewritingStage::after_reading);
        model.metadata = stored.metadata;
        return model;
    } catch (const InputError& error) {
        if (error.place() == ErrorPlace::file) throw;
        throw InputError::in_file(file, error.what());
    }
}

}  // namespace jevrin::inline v1
