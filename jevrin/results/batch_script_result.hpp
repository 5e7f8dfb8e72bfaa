// A batch script and the sizes it asks for.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/study/batch_script.hpp"

namespace jevrin::inline v1 {

struct BatchScriptResult {
    BatchScript script;
    BatchScriptSettings settings;
    std::int64_t runs = 0;
    std::filesystem::path file;  // of the script
};

std::string to_json(const BatchScriptResult& result);
std::string to_text(const BatchScriptResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
