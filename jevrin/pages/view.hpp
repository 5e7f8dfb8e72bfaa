// What the page shows, as JSON: a table of views, each a question with parameters. The server answers them
// one by one; a report holds the answers to all that its reader may ask.
//
//     const Json curves = view_data(ledger, study, {"curves", {{"runs", R"(["new head/1"])"}}});
//
// No view tells anything of the sealed test part but how often it was looked at, and none names a path of
// this machine.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <map>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct ViewQuery {
    std::string view;
    std::map<std::string, std::string> parameters = {};

    // Empty when it is not given.
    const std::string& text(const std::string& name) const;
    // InputError when it is not given.
    const std::string& required(const std::string& name) const;
    // A list is a JSON array of strings; none when it is not given. InputError when it is something else.
    std::vector<std::string> list(const std::string& name) const;
    // A number from 0; otherwise when it is not given. InputError when it is something else or above most.
    std::int64_t number(const std::string& name, std::int64_t otherwise, std::int64_t most) const;
};

// How long an answer holds.
enum class Lifetime {
    change,   // until something changes in the ledger
    results,  // until a run has finished
    run,      // as long as the run, which is finished
    images,   // as long as the study's version of the image set
};

struct View {
    const char* name;
    std::vector<std::string> parameters;
    Json (*data)(const Ledger&, const StudyRecord&, const ViewQuery&);
    Lifetime lifetime = Lifetime::change;
};
std::span<const View> all_views();

// There is no view, or action, of that name.
class NoView : public InputError {
  public:
    using InputError::InputError;
};

const View& view_called(const std::string& name);
// NoView; InputError for a parameter that the view does not have, or what a name in it means is not there.
Json view_data(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query);

}  // namespace jevrin::inline v1
