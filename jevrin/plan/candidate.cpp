// The settings of a candidate, described.
#include "jevrin/graph/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/training/descriptions.hpp"

namespace jevrin::inline v1 {
namespace {

bool is_partial(const Candidate& c) {
    return c.regime == Regime::partial;
}

Description<Candidate> describe_candidate() {
    using C = Candidate;
    const auto solves = [](const C& c) { return c.last_layer == LastLayer::logistic_regression; };
    Description<C> d;
    d.word("regime", &C::regime)
        .required()
        .means("what trains: everything, the head, or the end of the backbone");
    d.text("train_from", &C::train_from)
        .if_stated()
        .written_if(is_partial)
        .means("partial: the stage or layer where training begins");
    d.integer("train_last", &C::train_last, 0, 10'000)
        .if_stated()
        .written_if(is_partial)
        .means("partial: so many weighted layers of the backbone, from its end");
    d.number("train_share", &C::train_share, 0.0, 1.0)
        .if_stated()
        .written_if(is_partial)
        .means("partial: the least end of the backbone that holds this share of its parameters");
    auto& unfreezing = d.custom(
        "unfreeze", "list of tables",
        [](TableReader& reader, const std::string& k, C& c) {
            c.unfreezing.clear();
            for (TableReader& table : reader.tables(k)) {
                const auto step = read_settings(table, Unfreezing{});
                table.at("epoch", [&] {
                    if (!c.unfreezing.empty() && c.unfreezing.back().epoch >= step.epoch)
                        throw InputError("the epochs of 'unfreeze' must rise");
                });
                c.unfreezing.push_back(step);
            }
        },
        [](const C& c) {
            Json list = Json::array();
            for (const Unfreezing& step : c.unfreezing) list.push_back(complete_json(step));
            return list;
        });
    unfreezing.if_stated().written_if(is_partial).means("partial: stages that join in epoch by epoch");
    unfreezing.inner = [] { return description_of(Unfreezing{}).infos(); };
    d.integer("head_first", &C::head_first, 0, 100'000)
        .written_if(is_partial)
        .unit("epochs")
        .means("partial: in which only the head trains, at the beginning");
    d.word("normalisation", &C::normalisation)
        .written_if(is_partial)
        .means("partial: whether normalisation follows the batches or keeps its statistics");
    d.custom(
         "learning_rate_factors", "table of numbers from 0 to 1000",
         [](TableReader& reader, const std::string& k, C& c) {
             auto factors = reader.table(k);
             for (const std::string& stage : factors->keys())
                 c.rate_factors.emplace_back(stage, factors->number(stage, std::nullopt, 0.0, 1000.0));
             factors->finish();
         },
         [](const C& c) {
             Json json = Json::object();
             for (const auto& [stage, factor] : c.rate_factors) json[stage] = factor;
             return json;
         })
        .if_stated()
        .means("of the learning rate, by stage or layer");
    auto& network = d.custom(
        "network", "table",
        [](TableReader& reader, const std::string& k, C& c) {
            if (auto table = reader.table(k)) c.network = read_architecture(*table);
        },
        [](const C& c) { return c.network ? complete_json(*c.network) : Json(); });
    network.if_stated().means("scratch: instead of the backbone's architecture");
    network.canonical = [](const C& c) { return c.network ? canonical_json(*c.network) : Json(); };
    d.word("last_layer", &C::last_layer)
        .was("learner")
        .written_if(solves)
        .means("frozen: trained with the rest of the head, or solved");
    d.number("penalty", &C::penalty, 0.0, 1e9)
        .written_if(solves)
        .means("logistic regression: of the squared weights on standardised features");
    d.table("head", &C::head).means("what stands between the backbone and the classes");
    d.table("training", &C::training).means("what differs from the plan's [training]");
    return d;
}

}  // namespace

const Description<Unfreezing>& description_of(const Unfreezing&) {
    static const Description<Unfreezing> description = [] {
        Description<Unfreezing> d;
        d.integer("epoch", &Unfreezing::epoch, 1, 100'000).required().means("at whose beginning it joins");
        d.text("from", &Unfreezing::from).required().means("the stage or layer where training begins");
        return d;
    }();
    return description;
}

const Description<Candidate>& description_of(const Candidate&) {
    static const Description<Candidate> description = describe_candidate();
    return description;
}

template class Description<Unfreezing>;
template class Description<Candidate>;

}  // namespace jevrin::inline v1
