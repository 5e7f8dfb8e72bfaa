#include "jevrin/training/descriptions.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t most_epochs = 100'000;
constexpr std::int64_t most_steps = 1'000'000'000;

Description<OptimiserSettings> describe_optimiser() {
    using O = OptimiserSettings;
    const auto sgd = [](const O& o) { return o.kind == OptimiserKind::sgd; };
    const auto adam = [](const O& o) {
        return o.kind == OptimiserKind::adam || o.kind == OptimiserKind::adamw;
    };
    Description<O> d;
    d.kind<OptimiserKind>("kind", &O::kind, O::usual, [](const O& o) {
         return name_of(o.kind);
     }).means("stochastic gradient descent, Adam (Kingma & Ba 2015), AdamW (Loshchilov & Hutter 2019)");
    d.number("learning_rate", &O::learning_rate, 1e-9, 1000.0).means("adam, adamw: 0.001 unless stated");
    d.number("weight_decay", &O::weight_decay, 0.0, 10.0)
        .means("of weights only; adam: 0, adamw: 0.01 unless stated");
    d.number("momentum", &O::momentum, 0.0, 0.9999).only_for("sgd", sgd).means("Polyak (1964)");
    d.truth("nesterov", &O::nesterov).only_for("sgd", sgd).means("Nesterov's form of it (Sutskever 2013)");
    d.truth("decoupled", &O::decoupled).only_for("sgd", sgd).means("weights decay as adamw does it");
    d.number("beta1", &O::beta1, 0.0, 0.99999)
        .only_for("adam, adamw", adam)
        .means("decay of the first moment");
    d.number("beta2", &O::beta2, 0.0, 0.9999999)
        .only_for("adam, adamw", adam)
        .means("decay of the second moment");
    d.number("epsilon", &O::epsilon, 1e-16, 1.0).only_for("adam, adamw", adam).means("beside the root");
    d.check("nesterov", [](const TableReader&, const O& o) {
        if (o.nesterov && o.momentum == 0.0)
            throw InputError("'nesterov' is a form of momentum, and 'momentum' is 0");
    });
    return d;
}

Description<Schedule> describe_schedule() {
    using K = ScheduleKind;
    const auto of = [](std::initializer_list<K> kinds) {
        return [kinds = std::vector<K>(kinds)](const Schedule& s) {
            return std::find(kinds.begin(), kinds.end(), s.kind) != kinds.end();
        };
    };
    Description<Schedule> d;
    d.takes_text([](const std::string& name) { return Schedule{.kind = value_named<K>(name)}; });
    d.kind<K>(
         "kind", &Schedule::kind, [](K kind) { return Schedule{.kind = kind}; },
         [](const Schedule& s) { return fmt::format("the schedule '{}'", name_of(s.kind)); })
        .means("also instead of the table: schedule = \"cosine\"");
    d.number("warm_up", &Schedule::warm_up, 0.0, 1e5)
        .unit("epochs")
        .only_for("all but one cycle", of({K::constant, K::step, K::linear, K::cosine, K::plateau}))
        .means("in which the rate rises along a line");
    d.integer("every", &Schedule::every, 1, most_epochs)
        .unit("epochs")
        .only_for("step", of({K::step}))
        .means("after each of which the rate is multiplied by `factor`");
    d.number("factor", &Schedule::factor, 1e-6, 1.0)
        .only_for("step, plateau", of({K::step, K::plateau}))
        .means("of the rate");
    d.integer("patience", &Schedule::patience, 1, most_epochs)
        .unit("validations")
        .only_for("plateau", of({K::plateau}))
        .means("without a lower validation loss before the rate falls");
    d.number("rise", &Schedule::rise, 0.01, 0.99)
        .only_for("one cycle", of({K::one_cycle}))
        .means("the share of all steps in which the rate rises");
    d.number("first_share", &Schedule::first_share, 0.0, 1.0)
        .only_for("one cycle", of({K::one_cycle}))
        .means("of the learning rate, where the cycle begins");
    d.number("final_share", &Schedule::final_share, 0.0, 1.0)
        .only_for("linear, cosine, one cycle", of({K::linear, K::cosine, K::one_cycle}))
        .means("of the learning rate, at the end");
    return d;
}

void read_class_weights(TableReader& reader, const std::string& key, LossSettings& loss) {
    if (reader.holds_text(key)) {
        const std::string word = reader.text(key);
        reader.at(key, [&] {
            if (word != "balanced" && word != "none")
                throw InputError(fmt::format(
                    "class_weights is '{}'; it may be \"balanced\", \"none\" or a table of weights by class",
                    printable(word)));
        });
        loss.balanced_classes = word == "balanced";
        loss.named_weights.clear();
    } else if (auto weights = reader.table(key)) {
        loss.balanced_classes = false;
        loss.named_weights.clear();
        for (const std::string& name : weights->keys())
            loss.named_weights[name] = weights->number(name, std::nullopt, 0.0, 1e6);
        weights->finish();
    }
}

Description<LossSettings> describe_loss() {
    using L = LossSettings;
    Description<L> d;
    d.number("label_smoothing", &L::label_smoothing, 0.0, 0.99)
        .means("share of the wanted distribution that is spread over all classes (Szegedy 2016)");
    d.number("focus", &L::focus, 0.0, 20.0)
        .means("the exponent of the focal loss (Lin 2017); 0: cross-entropy");
    d.custom("class_weights", "\"none\", \"balanced\", or a table of weights by class", read_class_weights,
             [](const L& l) {
                 if (!l.named_weights.empty()) return Json(l.named_weights);
                 return Json(l.balanced_classes ? "balanced" : "none");
             })
        .means("how much an item of each class counts");
    return d;
}

Description<TrainingSettings> describe_training() {
    using T = TrainingSettings;
    Description<T> d;
    d.custom(
         "epochs", detail::integer_words(1, most_epochs),
         [](TableReader& reader, const std::string& k, T& t) {
             t.epochs = reader.integer(k, std::nullopt, 1, most_epochs);
             t.steps = 0;
         },
         [](const T& t) { return Json(t.epochs); })
        .written_if([](const T& t) { return t.steps == 0; })
        .means("passes over the training part");
    d.integer("steps", &T::steps, 0, most_steps)
        .written_if([](const T& t) { return t.steps > 0; })
        .means("of the optimiser, instead of epochs");
    d.number("minutes", &T::minutes, 0.0, 1e7)
        .unit("minutes")
        .means("after which no epoch begins; 0: no limit");
    d.integer("validate_every", &T::validate_every, 0, most_steps)
        .unit("steps")
        .means("between validations; 0: one at the end of each epoch");
    d.integer("patience", &T::patience, 0, most_epochs)
        .unit("validations")
        .means("without a new best before training ends; 0: never");
    d.integer("batch", &T::batch, 1, 65'536).unit("items").means("of one step");
    d.number("training_fraction", &T::fraction, 1e-6, 1.0)
        .means("of the training part, the same of each class");
    d.table("optimiser", &T::optimiser).means("how gradients change weights");
    d.table("schedule", &T::schedule).means("how the learning rate moves");
    d.table("loss", &T::loss).means("what training makes small");
    d.word("sampling", &T::sampling).means("which items an epoch sees");
    d.number("gradient_limit", &T::gradient_limit, 0.0, 1e9)
        .means("gradients are made shorter to this norm (Pascanu 2013); 0: never");
    d.number("averaging", &T::averaging, 0.0, 0.999999)
        .means("of the step before in the running average of the weights; 0: off");
    d.table("augment", &T::augmentation).means("random changes of training pictures");
    d.integer("views", &T::views, 0, 1000)
        .means("so many fixed augmented views of each picture, in turn; 0: a new one each epoch");
    d.check("steps", [](const TableReader& reader, const T&) {
        if (reader.has("epochs") && reader.has("steps"))
            throw InputError("'epochs' and 'steps' both say how long to train; leave one out");
    });
    d.check("schedule", [](const TableReader&, const T& t) {
        if (t.steps == 0 && t.schedule.warm_up >= static_cast<double>(t.epochs))
            throw InputError(
                fmt::format("'warm_up' takes {} epochs and the run has {}", t.schedule.warm_up, t.epochs));
    });
    d.check("views", [](const TableReader&, const T& t) {
        if (t.views > 0 && t.augmentation.mixing.form != MixingForm::none)
            throw InputError("fixed 'views' of a picture cannot be mixed with other pictures; leave one out");
    });
    return d;
}

}  // namespace

const Description<OptimiserSettings>& description_of(const OptimiserSettings&) {
    static const Description<OptimiserSettings> description = describe_optimiser();
    return description;
}
const Description<Schedule>& description_of(const Schedule&) {
    static const Description<Schedule> description = describe_schedule();
    return description;
}
const Description<LossSettings>& description_of(const LossSettings&) {
    static const Description<LossSettings> description = describe_loss();
    return description;
}
const Description<TrainingSettings>& description_of(const TrainingSettings&) {
    static const Description<TrainingSettings> description = describe_training();
    return description;
}

template class Description<OptimiserSettings>;
template class Description<Schedule>;
template class Description<LossSettings>;
template class Description<TrainingSettings>;

}  // namespace jevrin::inline v1
