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
     }).means("SGD, Adam (Kingma & Ba 2015) or AdamW (Loshchilov & Hutter 2019)");
    d.number("learning_rate", &O::learning_rate, 1e-9, 1000.0)
        .means("learning rate; default for adam, adamw: 0.001");
    d.number("weight_decay", &O::weight_decay, 0.0, 10.0)
        .means(
            "weight decay, of weights only, not of biases and normalisation; default for adam: 0, adamw: "
            "0.01");
    d.number("momentum", &O::momentum, 0.0, 0.9999).only_for("sgd", sgd).means("momentum (Polyak 1964)");
    d.boolean("nesterov", &O::nesterov).only_for("sgd", sgd).means("Nesterov momentum (Sutskever 2013)");
    d.boolean("decoupled", &O::decoupled).only_for("sgd", sgd).means("decoupled weight decay, as in AdamW");
    d.number("beta1", &O::beta1, 0.0, 0.99999)
        .only_for("adam, adamw", adam)
        .means("decay rate of the first moment");
    d.number("beta2", &O::beta2, 0.0, 0.9999999)
        .only_for("adam, adamw", adam)
        .means("decay rate of the second moment");
    d.number("epsilon", &O::epsilon, 1e-16, 1.0)
        .only_for("adam, adamw", adam)
        .means("added to the denominator for numerical stability");
    d.check("nesterov", [](const TableReader&, const O& o) {
        if (o.nesterov && o.momentum == 0.0)
            throw InputError(
                "'nesterov' needs momentum, and 'momentum' is 0; set momentum above 0 or remove 'nesterov'");
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
        .means("learning-rate schedule; short form: schedule = \"cosine\"");
    d.number("warm_up", &Schedule::warm_up, 0.0, 1e5)
        .unit("epochs")
        .only_for("constant, step, linear, cosine, plateau",
                  of({K::constant, K::step, K::linear, K::cosine, K::plateau}))
        .means("linear warm-up at the beginning");
    d.integer("every", &Schedule::every, 1, most_epochs)
        .unit("epochs")
        .only_for("step", of({K::step}))
        .means("interval after which the learning rate is multiplied by `factor`");
    d.number("factor", &Schedule::factor, 1e-6, 1.0)
        .only_for("step, plateau", of({K::step, K::plateau}))
        .means("factor of each learning-rate reduction");
    d.integer("patience", &Schedule::patience, 1, most_epochs)
        .unit("validations")
        .only_for("plateau", of({K::plateau}))
        .means("validations without a lower validation loss before the learning rate is reduced");
    d.number("rise_fraction", &Schedule::rise_fraction, 0.01, 0.99)
        .only_for("one cycle", of({K::one_cycle}))
        .means("fraction of all steps in which the learning rate increases")
        .was("rise");
    d.number("initial_fraction", &Schedule::initial_fraction, 0.0, 1.0)
        .only_for("one cycle", of({K::one_cycle}))
        .means("initial learning rate, as a fraction of `learning_rate`")
        .was("first_share");
    d.number("final_fraction", &Schedule::final_fraction, 0.0, 1.0)
        .only_for("linear, cosine, one cycle", of({K::linear, K::cosine, K::one_cycle}))
        .means("final learning rate, as a fraction of `learning_rate`")
        .was("final_share");
    return d;
}

void read_class_weights(TableReader& reader, const std::string& key, LossSettings& loss) {
    if (reader.holds_text(key)) {
        const std::string word = reader.text(key);
        reader.at(key, [&] {
            if (word != "balanced" && word != "none")
                throw InputError(fmt::format(
                    "class_weights is '{}'; use \"balanced\", \"none\" or a table of class weights",
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
        .means("probability mass spread evenly over all classes (Szegedy 2016)");
    d.number("focal_gamma", &L::focal_gamma, 0.0, 20.0)
        .means("focal loss gamma (Lin 2017); 0: cross-entropy")
        .was("focus");
    d.custom("class_weights", "\"none\", \"balanced\", or a table of class weights", read_class_weights,
             [](const L& l) {
                 if (!l.named_weights.empty()) return Json(l.named_weights);
                 return Json(l.balanced_classes ? "balanced" : "none");
             })
        .means("weight of each class in the loss; balanced: inversely proportional to its frequency");
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
        .means("number of passes over the training part");
    d.integer("steps", &T::steps, 0, most_steps)
        .written_if([](const T& t) { return t.steps > 0; })
        .means("number of optimiser steps, instead of `epochs`");
    d.number("minutes", &T::minutes, 0.0, 1e7)
        .unit("minutes")
        .means("time limit: no epoch begins after it; 0: none");
    d.integer("validate_every", &T::validate_every, 0, most_steps)
        .unit("steps")
        .means("validation interval; 0: once per epoch");
    d.integer("patience", &T::patience, 0, most_epochs)
        .unit("validations")
        .means("early stopping: validations without a new best score before training ends; 0: off");
    d.integer("batch", &T::batch, 1, 65'536).unit("items").means("batch size");
    d.integer("shards", &T::shards, 1, 4096)
        .means(
            "number of shards that a batch is cut into: each is a pass of its own, and their gradients are "
            "added "
            "in a fixed order, by one process after each other or by several ranks of a job");
    d.word("shard_statistics", &T::shard_statistics)
        .means(
            "what batch normalisation measures where batches are cut into shards: each shard, or the whole "
            "batch");
    d.boolean("winograd", &T::winograd)
        .means(
            "3x3 convolutions in transformed tiles where they serve (Lavin & Gray 2016): faster, with other "
            "rounding");
    d.word("activations", &T::activations)
        .means(
            "how the activations that the backward pass reads are kept: bfloat16 takes half the memory and "
            "rounds them to 8 bits of precision; everything is computed in float32");
    d.number("training_fraction", &T::fraction, 1e-6, 1.0)
        .means("fraction of the training part that is used, stratified by class");
    d.boolean("redraw_training_part", &T::redraw)
        .means(
            "each seed is trained on a bootstrap sample of the training part, stratified by class, so that "
            "the "
            "variance between seeds includes that of the training images");
    d.table("optimiser", &T::optimiser).means("optimiser");
    d.table("schedule", &T::schedule).means("learning-rate schedule");
    d.table("loss", &T::loss).means("loss function");
    d.word("sampling", &T::sampling)
        .means("natural: every item once per epoch; balanced: classes drawn with equal probability");
    d.number("gradient_clipping", &T::gradient_clipping, 0.0, 1e9)
        .was("gradient_limit")
        .means("gradient clipping: largest norm of the gradient (Pascanu 2013); 0: off");
    d.number("ema_decay", &T::ema_decay, 0.0, 0.999999)
        .was("averaging")
        .means("decay of an exponential moving average of the weights, which is validated and kept; 0: off");
    d.table("augment", &T::augmentation).means("data augmentation");
    d.integer("views", &T::views, 0, 1000)
        .means("number of fixed augmented views of each image, used in turn; 0: a new one every epoch");
    d.check("steps", [](const TableReader& reader, const T&) {
        if (reader.has("epochs") && reader.has("steps"))
            throw InputError("'epochs' and 'steps' both set the length of training; remove one");
    });
    d.check("shards", [](const TableReader&, const T& t) {
        if (t.shards > t.batch)
            throw InputError(fmt::format("'shards' is {}, and a batch has only {}; use fewer", t.shards,
                                         plural(t.batch, "item")));
    });
    d.check("schedule", [](const TableReader&, const T& t) {
        if (t.steps == 0 && t.schedule.warm_up >= static_cast<double>(t.epochs))
            throw InputError(
                fmt::format("'warm_up' is {} epochs, and training has only {}; shorten the warm-up",
                            t.schedule.warm_up, t.epochs));
    });
    d.check("views", [](const TableReader&, const T& t) {
        if (t.views > 0 && t.augmentation.mixing.form != MixingForm::none)
            throw InputError("fixed 'views' cannot be combined with 'mixing'; remove one");
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
