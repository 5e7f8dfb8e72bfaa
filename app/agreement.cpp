#include "jevrin/comparison/agreement.hpp"

#include "commands.hpp"
#include "prediction_options.hpp"
#include "review_marks.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/candidate_style.hpp"
#include "jevrin/figures/sheet.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::app {
namespace {

struct AgreementOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string show = "missed";
    std::string regime;
    MostItems most;
    std::size_t mark = 0;
    std::filesystem::path sheet;
};

ItemGroup group_of(const AgreementOptions& options) {
    if (!options.regime.empty()) return ItemGroup::only_regime;
    if (options.show == "missed") return ItemGroup::missed;
    if (options.show == "known") return ItemGroup::known;
    return options.show == "disputed" ? ItemGroup::disputed : ItemGroup::only_regime;
}

std::string spoken_group(const AgreementOptions& options) {
    if (!options.regime.empty())
        return fmt::format("that only runs of regime '{}' get right", printable(options.regime));
    if (options.show == "missed") return "that no run gets right";
    if (options.show == "known") return "that all runs get right";
    return options.show == "disputed" ? "that some runs get right" : "that only one regime gets right";
}

// "scratch 0 %, frozen 100 %".
std::optional<Regime> regime_of(const AgreementOptions& options) {
    return options.regime.empty() ? std::nullopt : std::optional(value_named<Regime>(options.regime));
}

std::string regimes_of(const Agreement& agreement, const AgreedItem& item) {
    std::string text;
    for (std::size_t r = 0; r < agreement.regimes.size(); ++r)
        text +=
            fmt::format("{}{} {}", text.empty() ? "" : ", ", name_of(agreement.regimes[r]),
                        std::isnan(item.right_share[r]) ? std::string("-")
                                                        : fmt::format("{:.0f} %", 100 * item.right_share[r]));
    return text;
}

class Shown {
  public:
    Shown(const AgreementOptions& options, const OpenStudy& open, const Agreement& agreement)
        : open_(open),
          agreement_(agreement),
          places_(items_in(agreement, group_of(options), regime_of(options))) {
        for (const std::size_t place : places_)
            ids_.push_back(open.ledger.item_id(agreement.items[place].item));
    }
    std::size_t size() const { return places_.size(); }
    const AgreedItem& item(std::size_t k) const { return agreement_.items[places_[k]]; }
    const std::string& id(std::size_t k) const { return ids_[k]; }
    const std::string& label(std::size_t k) const { return open_.study.classes.at(item(k).label); }
    const std::string& called(std::size_t k) const { return open_.study.classes.at(item(k).most_called); }

  private:
    const OpenStudy& open_;
    const Agreement& agreement_;
    std::vector<std::size_t> places_;
    std::vector<std::string> ids_;
};

std::vector<std::filesystem::path> draw(const OpenStudy& open, const Shown& shown, const MostItems& most,
                                        const std::string& title, const std::filesystem::path& file) {
    std::vector<ItemRecord> records;
    for (std::size_t k = 0; k < shown.size(); ++k) records.push_back({shown.id(k), shown.item(k).label});
    const ImageSet set = items_of(open.study, records);
    return draw_pages(
        most.pictures(shown.size()),
        [&](std::size_t k) {
            const AgreedItem& item = shown.item(k);
            return CaptionedPicture{
                .picture = load_image(set, set.items[k]),
                .lines = {fmt::format("{} (label)", printable(shown.label(k))),
                          fmt::format("{} of {}: {}", item.called_so, item.runs, printable(shown.called(k))),
                          std::filesystem::path(path_of(shown.id(k))).filename().string()},
                .wrong = item.most_called != item.label};
        },
        title, file);
}

Json to_json(const OpenStudy& open, const Agreement& agreement, const Shown& shown) {
    Json items = Json::array();
    for (std::size_t k = 0; k < shown.size(); ++k) {
        const AgreedItem& item = shown.item(k);
        Json regimes = Json::object();
        for (std::size_t r = 0; r < agreement.regimes.size(); ++r)
            regimes[name_of(agreement.regimes[r])] = number(item.right_share[r]);
        items.push_back({{"item", path_of(shown.id(k))},
                         {"id", shown.id(k)},
                         {"label", shown.label(k)},
                         {"runs", item.runs},
                         {"right", item.right},
                         {"most_called", shown.called(k)},
                         {"called_so", item.called_so},
                         {"right_by_regime", regimes}});
    }
    Json pairs = Json::array();
    for (std::size_t a = 0; a < agreement.candidates.size(); ++a)
        for (std::size_t b = a; b < agreement.candidates.size(); ++b)
            pairs.push_back({{"first", agreement.candidates[a]},
                             {"second", agreement.candidates[b]},
                             {"alike", number(agreement.alike[a][b])},
                             {"kappa", number(agreement.kappa[a][b])}});
    return {{"items", agreement.items.size()},
            {"selected", items},
            {"agreement", pairs},
            {"test_looks", open.study.test_looks}};
}

std::string counts(const Agreement& agreement) {
    const auto many = [&](ItemGroup group, std::optional<Regime> regime = std::nullopt) {
        return items_in(agreement, group, regime).size();
    };
    std::string text =
        fmt::format("of {} items all runs get {} right, some {}, none {}\n", agreement.items.size(),
                    many(ItemGroup::known), many(ItemGroup::disputed), many(ItemGroup::missed));
    if (agreement.regimes.size() > 1)
        for (const Regime regime : agreement.regimes)
            text += fmt::format("only {} gets right: {}\n", name_of(regime),
                                many(ItemGroup::only_regime, regime));
    return text;
}

// Beyond chance, candidates by their letters.
std::string agreement_table(const Agreement& agreement, const CandidateStyles& styles) {
    constexpr std::size_t most = 14;
    const std::size_t shown = std::min(most, agreement.candidates.size());
    std::vector<std::string> heads = {"kappa"};
    std::vector<std::size_t> right;
    for (std::size_t k = 0; k < shown; ++k) {
        heads.push_back(styles.letter(agreement.candidates[k]));
        right.push_back(k + 1);
    }
    Table table(heads, right);
    for (std::size_t a = 0; a < shown; ++a) {
        std::vector<std::string> cells = {fmt::format("{} {}", styles.letter(agreement.candidates[a]),
                                                      short_cell(agreement.candidates[a]))};
        for (std::size_t b = 0; b < shown; ++b)
            cells.push_back(std::isnan(agreement.kappa[a][b]) ? "-"
                                                              : fmt::format("{:.2f}", agreement.kappa[a][b]));
        table.add(cells);
    }
    std::string text =
        "agreement of runs beyond chance (Cohen's kappa; on the diagonal: between the seeds of one "
        "candidate)\n" +
        table.text();
    if (shown < agreement.candidates.size())
        text +=
            fmt::format("... and {} more candidates (--json for all)\n", agreement.candidates.size() - shown);
    return text;
}

void agreement(const AgreementOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const StudyEvidence evidence =
        gather_evidence(open.ledger, open.study, runs_called(open.ledger, open.study, options.runs));
    const Agreement agreement = agree(evidence);
    const Shown shown(options, open, agreement);
    const std::string title =
        fmt::format("{}: {} {}", open.study.name, plural(static_cast<std::int64_t>(shown.size()), "item"),
                    spoken_group(options));
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) files = draw(open, shown, options.most, title, options.sheet);
    const std::size_t marked = mark_first(open, options.mark, shown.size(), [&](std::size_t k) {
        return MarkRecord{.item = shown.id(k),
                          .label = {},
                          .note = fmt::format("{} of {} runs call it {} (label {})", shown.item(k).called_so,
                                              shown.item(k).runs, shown.called(k), shown.label(k)),
                          .marked = {}};
    });
    if (options.ledger.json) {
        print_json(to_json(open, agreement, shown));
        return;
    }
    const CandidateStyles styles(open.ledger.candidates(open.study.id));
    print(counts(agreement) + "\n" + agreement_table(agreement, styles) + "\n");
    print(fmt::format("{} {}\n", plural(static_cast<std::int64_t>(shown.size()), "item"),
                      spoken_group(options)));
    const std::size_t rows = options.most.rows(shown.size());
    if (rows > 0) {
        Table table({"item", "label", "right", "mostly called", "by", "right by regime"}, {2, 4});
        for (std::size_t k = 0; k < rows; ++k) {
            const AgreedItem& item = shown.item(k);
            table.add({short_cell(path_of(shown.id(k)), 60), short_cell(shown.label(k), 24),
                       fmt::format("{}/{}", item.right, item.runs), short_cell(shown.called(k), 24),
                       fmt::format("{}", item.called_so), regimes_of(agreement, item)});
        }
        print("\n" + table.text());
        if (shown.size() > rows)
            print(fmt::format("... and {} more (--most 0 for all)\n", shown.size() - rows));
    }
    print(marked_line(marked));
    for (const std::string& sentence : evidence.set_apart) print(sentence + "\n");
    print(test_look_line(open));
    print_written(files);
}

}  // namespace

void add_agreement(Command& command) {
    auto options = std::make_shared<AgreementOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
    command
        .add_option("--show", options->show,
                    "missed by all, known to all, disputed, or right in one regime only")
        .one_of({"missed", "known", "disputed", "one-regime"})
        .option_text("WHICH=" + options->show);
    command.add_option("--regime", options->regime, "right in this regime only").type_name("REGIME");
    add_most_option(command, options->most);
    add_mark_option(command, options->mark);
    add_picture_option(command, "--sheet", options->sheet, "draw the pictures, 64 on a page");
    add_ledger_options(command, options->ledger);
    command.callback([options] { agreement(*options); });
}

}  // namespace jevrin::app
