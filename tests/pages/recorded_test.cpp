// What the page gets of one made-up study, view by view, against what was read once.
#include "support/recorded_text.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/pages/view.hpp"

namespace jevrin {
namespace {

TEST(RecordedViews, OfAStudy) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 4, 24, Metric::balanced_accuracy);
    test::fill_with_everything(study);
    const std::string item = study.set().items[study.parts().validation[5]].id;
    const std::vector<ViewQuery> queries = {
        {"study", {}},
        {"choice", {}},
        {"choice", {{"cost", "operations"}}},
        {"settings", {}},
        {"curves", {}},
        {"run", {{"run", "last stage/2"}}},
        {"scores", {{"run", "last stage/2"}}},
        {"classes", {{"run", "last stage/2"}}},
        {"matrices", {{"run", "last stage/2"}, {"from", "3"}}},
        {"items", {{"run", "last stage/2"}}},
        {"items", {{"run", "last stage/2"}, {"epoch", "2"}}},
        {"item", {{"item", item}}},
        {"difference", {{"first", "last stage"}, {"second", "new head"}}},
        {"suspects", {{"source", "recorded"}}},
        {"marks", {}},
    };
    std::map<std::string, int> asked;
    for (const ViewQuery& query : queries) {
        const Json data = view_data(study.ledger(), study.study(), query);
        const int before = asked[query.view]++;
        test::expect_recorded("views/" + query.view + (before > 0 ? fmt::format(" {}", before + 1) : ""),
                              json_text(data, 1) + "\n", directory.path());
    }
}

}  // namespace
}  // namespace jevrin
