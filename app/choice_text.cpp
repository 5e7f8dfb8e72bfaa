#include "choice_text.hpp"

#include "output.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

namespace jevrin::app {

std::string choice_text(const Choice& choice) {
    std::string text = choice.reasons.front() + "\n\n";
    Table table({"candidate", "regime", metric_name(choice.metric), "95 % over seeds", "runs", "parameters",
                 "trainable", "operations", "file", "s/run"},
                {2, 4, 5, 6, 7, 8, 9});
    for (const RankedCandidate& c : choice.ranking)
        table.add({(c.candidate == choice.chosen ? "> " : "  ") + c.candidate, c.regime,
                   fmt::format("{:.3f}", c.mean),
                   c.interval ? fmt::format("{:.3f} to {:.3f}", c.interval->low, c.interval->high)
                              : "one seed: unknown",
                   std::to_string(c.runs), with_commas(c.parameters), with_commas(c.trainable_parameters),
                   c.multiplications == 0 ? "" : with_commas(c.multiplications),
                   c.model_bytes == 0 ? "" : spoken_bytes(c.model_bytes), fmt::format("{:.2f}", c.seconds)});
    text += table.text() + "\n";
    for (std::size_t i = 1; i < choice.reasons.size(); ++i) text += choice.reasons[i] + "\n";
    text += choice.test_looks == 0
                ? "Chosen on the validation part; the test part has not been looked at.\n"
                : fmt::format("Chosen on the validation part; the test part has been looked at {}.\n",
                              plural(choice.test_looks, "time"));
    return text;
}

}  // namespace jevrin::app
