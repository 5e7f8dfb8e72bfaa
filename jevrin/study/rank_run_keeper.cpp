#include "jevrin/study/rank_run_keeper.hpp"

#include "jevrin/base/hash.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <fmt/format.h>

#include <utility>

namespace jevrin::inline v1 {

Json record_json(const RunRecord& record) {
    Json json = {{"id", record.id.number},
                 {"candidate", record.candidate},
                 {"regime", name_of(record.regime)},
                 {"seed", record.seed},
                 {"fold", record.fold},
                 {"state", name_of(record.state)},
                 {"epochs", record.epochs},
                 {"planned_epochs", record.planned_epochs}};
    if (record.best) json["best"] = to_text(EpochNote{.epoch = *record.best});
    return json;
}

RunRecord record_from(const Json& json) {
    RunRecord record{.id = RunId{json.at("id").get<std::int64_t>()},
                     .candidate = json.at("candidate").get<std::string>(),
                     .regime = value_named<Regime>(json.at("regime").get<std::string>()),
                     .seed = json.at("seed").get<std::int64_t>(),
                     .fold = json.at("fold").get<std::int64_t>(),
                     .state = value_named<RunState>(json.at("state").get<std::string>()),
                     .epochs = json.at("epochs").get<std::int64_t>(),
                     .planned_epochs = json.at("planned_epochs").get<std::int64_t>()};
    if (const Json* best = json.find("best")) record.best = note_from_text(best->get<std::string>())->epoch;
    return record;
}

Json past_json(const RunPast& past) {
    Json epochs = Json::array();
    for (std::size_t i = 0; i < past.curve.size(); ++i)
        epochs.push_back(to_text(EpochNote{.epoch = {past.curve[i], {}}, .layers = past.layers[i]}));
    return {{"record", record_json(past.record)}, {"problem", past.problem}, {"epochs", epochs}};
}

RunPast past_from(const RankMessage& message) {
    RunPast past{.record = record_from(message.head.at("record")),
                 .problem = message.head.at("problem").get<std::string>()};
    for (const Json& text : message.head.at("epochs")) {
        EpochNote note = note_from_text(text.get<std::string>()).value();
        past.curve.push_back(note.epoch);
        past.layers.push_back(std::move(note.layers));
    }
    if (!message.body.empty()) past.state = read_checkpoint(message.body, "the checkpoint that rank 0 sent");
    return past;
}

RunPast RankRunKeeper::past() {
    const RankMessage answer = client_.ask(head("past"));
    owner_ = answer.head.at("owner").get<std::string>();
    return past_from(answer);
}

RunRecord RankRunKeeper::forget_epochs() {
    return record_from(client_.ask(head("forget_epochs")).head.at("record"));
}

void RankRunKeeper::begin(const std::string& plan, const std::string& environment) {
    Json begun = head("begin");
    begun["plan"] = plan;
    begun["environment"] = environment;
    client_.ask(begun);
}

void RankRunKeeper::save(TrainingState state) {
    state.owner = owner_;
    client_.ask(head("save"), as_text(checkpoint_bytes(state)));
}

bool RankRunKeeper::finish_epoch(TrainingState state, const EpochNote& note) {
    state.owner = owner_;
    Json finished = head("finish_epoch");
    finished["note"] = to_text(note);
    return client_.ask(finished, as_text(checkpoint_bytes(state))).head.at("goes_on").get<bool>();
}

std::filesystem::path RankRunKeeper::model_file(std::int64_t epoch) {
    return scratch_ / fmt::format("{}-{}.onnx", thread_, epoch);
}

void RankRunKeeper::send_model(std::int64_t epoch) {
    const std::filesystem::path file = model_file(epoch);
    const std::string bytes = read_text(file);
    Json model = head("model");
    model["epoch"] = epoch;
    model["hash"] = content_hash(std::string_view(bytes));
    client_.ask(model, bytes);
    std::filesystem::remove(file);
}

void RankRunKeeper::put_epoch_model(std::int64_t epoch) {
    send_model(epoch);
}

void RankRunKeeper::finish(const std::vector<PredictionRecord>& validation, const PredictionCost& cost) {
    send_model(0);
    Json finished = head("finish");
    finished["cost"] = {cost.milliseconds, cost.batch_milliseconds, cost.bytes};
    std::vector<std::size_t> predicted;
    std::string probabilities;
    for (const PredictionRecord& row : validation) {
        predicted.push_back(row.predicted);
        probabilities += as_text(std::as_bytes(std::span(row.probabilities)));
    }
    finished["predicted"] = predicted;
    client_.ask(finished, probabilities);
}

}  // namespace jevrin::inline v1
