#include "jevrin/results/survey_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t shown = 5;

Json to_json(const Spread& spread) {
    return {{"smallest", spread.smallest},
            {"lower_quarter", spread.lower_quarter},
            {"median", spread.median},
            {"upper_quarter", spread.upper_quarter},
            {"largest", spread.largest}};
}

std::string heading(const ImageSet& set) {
    std::string text = fmt::format("{} in {} classes, {} unreadable", plural(std::ssize(set.items), "image"),
                                   set.classes.size(), set.problems.size());
    if (set.skipped > 0) text += fmt::format(", {} skipped", plural(set.skipped, "other file"));
    if (!set.unlabelled.empty()) text += fmt::format(", {} unlabelled", set.unlabelled.size());
    if (set.relabelled + set.excluded > 0)
        text +=
            fmt::format("; corrections gave {} another label and excluded {}", set.relabelled, set.excluded);
    return text + "\n";
}

std::string class_bars(const ImageSet& set, const Survey& survey, const TextForm& form) {
    const std::int64_t most = survey.counts[survey.commonest];
    ResultTable table({"class", "images", "fraction", ""}, {1, 2});
    for (std::size_t c = 0; c < survey.counts.size(); ++c) {
        const std::int64_t count = survey.counts[c];
        table.add(
            {printable(set.classes[c]), with_commas(count),
             fmt::format("{:.1f} %",
                         100.0 * static_cast<double>(count) / static_cast<double>(set.items.size())),
             bar(std::max(0.025, static_cast<double>(count) / static_cast<double>(most)), 40, form.rich)});
    }
    return table.text(form.width);
}

std::string describe_pictures(const ImageSet& set, const Survey& survey) {
    const auto item = [&](std::size_t i) {
        const Item& one = set.items[i];
        return fmt::format("{}x{} ({})", one.facts.width, one.facts.height, printable(one.path));
    };
    const auto half = [](const Spread& s) {
        return fmt::format("{:.0f} to {:.0f}", s.lower_quarter, s.upper_quarter);
    };
    std::string formats;
    for (const auto& [format, count] : survey.formats)
        formats +=
            fmt::format("{}{} {}", formats.empty() ? "" : ", ", with_commas(count), format_name(format));
    std::string channels;
    const auto add = [&](std::int64_t count, const char* what) {
        if (count > 0)
            channels += fmt::format("{}{} {}", channels.empty() ? "" : ", ", with_commas(count), what);
    };
    add(survey.colour, "in colour");
    add(survey.grey, "grey");
    add(survey.transparent, "with transparency");
    return fmt::format("sizes            smallest {}, largest {}\n", item(survey.smallest_item),
                       item(survey.largest_item)) +
           fmt::format("                 half of them {} wide and {} high\n", half(survey.width),
                       half(survey.height)) +
           fmt::format(
               "aspect           {:.2f} to {:.2f} (width to height); {} upright, {} wide, {} nearly square\n",
               survey.aspect.smallest, survey.aspect.largest, with_commas(survey.upright),
               with_commas(survey.wide), with_commas(std::ssize(set.items) - survey.upright - survey.wide)) +
           fmt::format("colours          {}; {}\n", channels, formats);
}

std::string describe_balance(const ImageSet& set, const Survey& survey) {
    const std::string common = printable(set.classes[survey.commonest]);
    const std::string rare = printable(set.classes[survey.rarest]);
    std::string text = fmt::format("baseline         always predicting '{}' has accuracy {:.3f}\n", common,
                                   survey.majority_accuracy);
    const auto ratio =
        fmt::format("'{}' has {:.1f} times as many images as '{}'", common, survey.imbalance, rare);
    if (survey.imbalance < 1.5)
        text += "balance          the classes are balanced\n";
    else if (survey.imbalance < 10.0)
        text += fmt::format(
            "balance          imbalanced: {};\n                 use balanced accuracy or macro F1, not "
            "accuracy\n",
            ratio);
    else
        text += fmt::format(
            "balance          strongly imbalanced: {};\n                 use balanced accuracy or macro F1, "
            "give the rare class a larger weight (class_weights),\n                 and collect more of it\n",
            ratio);
    constexpr std::int64_t few = 30;
    if (const std::int64_t count = survey.counts[survey.rarest]; count < few)
        text += fmt::format("                 '{}' has only {}: a fifth of that is too few for validation\n",
                            rare, plural(count, "image"));
    return text;
}

std::string describe_near_duplicates(const ImageSet& set, const Survey& survey, const TextForm& form) {
    std::string text;
    const auto list = [&](const std::string& title, std::size_t count, const auto& line) {
        if (count == 0) return;
        text += title;
        for (std::size_t i = 0; i < std::min(count, shown); ++i) text += "                 " + line(i) + "\n";
        if (count > shown) text += "                 " + form.and_more(count - shown);
    };
    const auto pair_text = [&](const NearDuplicate& pair) {
        return fmt::format("{} and {}{}", printable(set.items[pair.first].path),
                           printable(set.items[pair.second].path),
                           pair.distance > 0 ? fmt::format(", {} bits apart", pair.distance) : "");
    };
    list(fmt::format("conflicts        {} of one image with two labels: correct one of them\n",
                     plural(std::ssize(survey.label_conflicts), "pair")),
         survey.label_conflicts.size(), [&](std::size_t i) { return pair_text(survey.label_conflicts[i]); });
    list(fmt::format("duplicates       {} of identical files; they are kept in one part\n",
                     plural(std::ssize(survey.duplicates), "group")),
         survey.duplicates.size(), [&](std::size_t i) {
             const auto& group = survey.duplicates[i];
             return fmt::format("{} and {}{}", printable(set.items[group[0]].path),
                                printable(set.items[group[1]].path),
                                group.size() > 2 ? fmt::format(" and {} more", group.size() - 2) : "");
         });
    list(fmt::format(
             "near-duplicates  {} (perceptual hashes at most {} of 256 bits apart); they are kept in one "
             "part\n",
             plural(std::ssize(survey.near_duplicates), "pair"), near_duplicate_distance),
         survey.near_duplicates.size(), [&](std::size_t i) { return pair_text(survey.near_duplicates[i]); });
    list(fmt::format("left out         {}\n", plural(std::ssize(set.problems), "unreadable file")),
         set.problems.size(), [&](std::size_t i) {
             return fmt::format("{}: {}", printable(set.problems[i].file), set.problems[i].problem);
         });
    return text;
}

}  // namespace

SurveyResult report_survey(const ImageSource& source, const MaterialsProgress& progress) {
    SurveyResult result{.set = read_image_set(source, step_progress(progress, "reading images")),
                        .survey = {}};
    near_duplicates(result.set, step_progress(progress, "comparing images"));
    result.survey = survey_images(result.set);
    return result;
}

std::string to_json(const SurveyResult& result) {
    const ImageSet& set = result.set;
    const Survey& survey = result.survey;
    Json json;
    json["items"] = set.items.size();
    json["classes"] = Json::array();
    for (std::size_t c = 0; c < survey.counts.size(); ++c)
        json["classes"].push_back({{"name", set.classes[c]}, {"count", survey.counts[c]}});
    json["majority_accuracy"] = survey.majority_accuracy;
    json["imbalance"] = survey.imbalance;
    json["width"] = to_json(survey.width);
    json["height"] = to_json(survey.height);
    json["aspect"] = to_json(survey.aspect);
    json["formats"] = Json::object();
    for (const auto& [format, count] : survey.formats) json["formats"][format_name(format)] = count;
    json["channels"] = {
        {"grey", survey.grey}, {"colour", survey.colour}, {"transparent", survey.transparent}};
    json["brightest"] = survey.brightest;
    json["problems"] = Json::array();
    for (const Problem& p : set.problems)
        json["problems"].push_back({{"file", p.file}, {"problem", p.problem}});
    json["skipped"] = set.skipped;
    json["duplicates"] = Json::array();
    for (const auto& group : survey.duplicates) {
        Json files = Json::array();
        for (const std::size_t i : group) files.push_back(set.items[i].path);
        json["duplicates"].push_back(files);
    }
    const auto pairs = [&](const std::vector<NearDuplicate>& list) {
        Json list_json = Json::array();
        for (const NearDuplicate& pair : list)
            list_json.push_back({{"items", {set.items[pair.first].path, set.items[pair.second].path}},
                                 {"distance", pair.distance}});
        return list_json;
    };
    json["near_duplicates"] = pairs(survey.near_duplicates);
    json["label_conflicts"] = pairs(survey.label_conflicts);
    json["name_groups"] = {{"pattern", survey.name_groups.pattern},
                           {"groups", survey.name_groups.groups},
                           {"items", survey.name_groups.images}};
    json["corrections"] = {{"relabelled", set.relabelled}, {"excluded", set.excluded}};
    json["unlabelled"] = set.unlabelled.size();
    json["notes"] = set.notes;
    json["fingerprint"] = set.fingerprint;
    return document(json);
}

std::string to_text(const SurveyResult& result, const TextForm& form) {
    const ImageSet& set = result.set;
    const Survey& survey = result.survey;
    std::string text = fmt::format("{}\n{}\n{}{}{}", heading(set), class_bars(set, survey, form),
                                   describe_pictures(set, survey), describe_balance(set, survey),
                                   describe_near_duplicates(set, survey, form));
    std::vector<std::string> notes = set.notes;
    notes.push_back(nearly_black_note(survey.brightest));
    notes.push_back(name_groups_note(survey.name_groups));
    for (const std::string& note : notes)
        if (!note.empty()) text += "note             " + note + "\n";
    return text;
}

}  // namespace jevrin::inline v1
