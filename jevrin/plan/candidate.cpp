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
        .means(
            "which weights train: all from random initialisation, the head, or the last part of the "
            "backbone");
    d.text("train_from", &C::train_from)
        .if_stated()
        .written_if(is_partial)
        .means("partial: the first stage or layer that trains");
    d.integer("train_last", &C::train_last, 0, 10'000)
        .if_stated()
        .written_if(is_partial)
        .means("partial: number of layers with weights that train, counted from the end of the backbone");
    d.number("train_fraction", &C::train_fraction, 0.0, 1.0)
        .if_stated()
        .written_if(is_partial)
        .means("partial: smallest number of last layers that hold this fraction of the backbone's parameters")
        .was("train_share");
    auto& unfreezing = d.custom(
        "unfreeze", "list of tables",
        [](TableReader& reader, const std::string& k, C& c) {
            c.unfreezing.clear();
            for (TableReader& table : reader.tables(k)) {
                const auto step = read_settings(table, Unfreezing{});
                table.at("epoch", [&] {
                    if (!c.unfreezing.empty() && c.unfreezing.back().epoch >= step.epoch)
                        throw InputError("the epochs of 'unfreeze' must increase");
                });
                c.unfreezing.push_back(step);
            }
        },
        [](const C& c) {
            Json list = Json::array();
            for (const Unfreezing& step : c.unfreezing) list.push_back(complete_json(step));
            return list;
        });
    unfreezing.if_stated().written_if(is_partial).means("partial: gradual unfreezing, epoch by epoch");
    unfreezing.inner = [] { return description_of(Unfreezing{}).infos(); };
    d.integer("head_only_epochs", &C::head_only_epochs, 0, 100'000)
        .written_if(is_partial)
        .unit("epochs")
        .means("partial: epochs at the beginning in which only the head trains")
        .was("head_first");
    d.word("normalisation", &C::normalisation)
        .written_if(is_partial)
        .means("partial: batch normalisation with statistics of the batch, or with the pretrained ones");
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
        .means("learning-rate factor of a stage or layer");
    auto& network = d.custom(
        "network", "table",
        [](TableReader& reader, const std::string& k, C& c) {
            if (auto table = reader.table(k)) c.network = read_architecture(*table);
        },
        [](const C& c) { return c.network ? complete_json(*c.network) : Json(); });
    network.if_stated().means("scratch: the network to train; default: the architecture of the backbone");
    network.canonical = [](const C& c) { return c.network ? canonical_json(*c.network) : Json(); };
    d.word("last_layer", &C::last_layer)
        .was("learner")
        .written_if(solves)
        .means("frozen: the last layer is trained by the optimiser, or fitted as logistic regression");
    d.number("l2_regularisation", &C::l2_regularisation, 0.0, 1e9)
        .only_for("logistic regression", solves)
        .was("penalty")
        .means(
            "l2_regularisation / 2 x squared weights is added to the summed cross-entropy; features are "
            "standardised");
    d.table("head", &C::head).means("layers between the backbone and the classes");
    d.table("training", &C::training).means("training settings that differ from [training]");
    return d;
}

}  // namespace

const Description<Unfreezing>& description_of(const Unfreezing&) {
    static const Description<Unfreezing> description = [] {
        Description<Unfreezing> d;
        d.integer("epoch", &Unfreezing::epoch, 1, 100'000).required().means("epoch from which on it trains");
        d.text("from", &Unfreezing::from)
            .required()
            .means("the first stage or layer that trains from then on");
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
