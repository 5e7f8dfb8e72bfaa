#include "jevrin/study/rank_service.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/study/rank_run_keeper.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study_brief.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <thread>
#include <tuple>
#include <utility>

namespace jevrin::inline v1 {
namespace {

using Clock = std::chrono::steady_clock;

constexpr std::ptrdiff_t most_epochs_together = 16;
constexpr std::ptrdiff_t most_bytes_together = 16 << 20;
constexpr const char* no_run = "rank 0 has given no run to this thread";

RunWorker worker_of(const RankMessage& message) {
    return {message.from, message.head.value("thread", 0)};
}

}  // namespace

RankService::Entrusted::Entrusted(LedgerWriter& writer, ClaimedRun run, const Materials& materials,
                                  const PlannedRun& planned)
    : taken(std::move(run)),
      validated(validation_items(materials, planned)),
      keeper(writer, taken.claim, taken.record.id, item_ids(materials, validated)) {}

RankService::RankService(Ranks& ranks, const Materials& materials, const StudyOptions& options,
                         LedgerWriter& writer, StudyRuns& runs, StudyReporter& reporter)
    : ranks_(ranks),
      materials_(materials),
      writer_(writer),
      runs_(runs),
      reporter_(reporter),
      patience_(options.ranks_patience),
      is_shared_(options.team != nullptr),
      mixed_(options.mixed_processors),
      brief_(packed(study_brief(materials, options))),
      looked_(Clock::now()) {
    for (int rank = 1; rank < ranks.size(); ++rank) others_[rank] = {};
}

std::string RankService::called(int rank) const {
    const auto found = others_.find(rank);
    return found == others_.end() || found->second.host.empty()
               ? fmt::format("rank {}", rank)
               : fmt::format("rank {} on {}", rank, printable(found->second.host));
}

void RankService::warn_once(const std::string& message) {
    if (said_.insert(message).second) reporter_.warn(message);
}

void RankService::reply(const RankMessage& message, Json head, std::string_view body) {
    head["answer"] = message.head.at("question");
    ranks_.send(message.from, packed(head, body));
}

bool RankService::turn() {
    watch_for_silence();
    while (const auto bytes = ranks_.receive(std::chrono::milliseconds(0))) {
        RankMessage message = unpacked(*bytes);
        others_.at(message.from).silent = 0.0;
        if (message.head.at("do") != "finish_epoch") {
            answer(message);
            continue;
        }
        epochs_bytes_ += std::ssize(message.body);
        epochs_.push_back(std::move(message));
        if (std::ssize(epochs_) >= most_epochs_together || epochs_bytes_ >= most_bytes_together)
            keep_epochs();
    }
    keep_epochs();
    give_runs();
    return std::any_of(others_.begin(), others_.end(), [](const auto& other) { return !other.second.ended; });
}

// A rank that cannot be reached ends the job: what it trained goes on from its checkpoint in the next one.
void RankService::watch_for_silence() {
    const Clock::time_point now = Clock::now();
    const double passed = std::min(1.0, std::chrono::duration<double>(now - looked_).count());
    looked_ = now;
    for (auto& [rank, other] : others_) {
        if (other.ended) continue;
        other.silent += passed;
        if (other.silent <= patience_) continue;
        const std::string lost = fmt::format(
            "{} has not been heard of for {:.0f} seconds: its process, its machine or the network is "
            "down; start the job again, and it continues behind the last epochs",
            called(rank), patience_);
        warn_once(lost);  // now: a launcher that notices, too, ends this process
        throw WorkError(lost);
    }
}

void RankService::ask_to_stop() {
    if (std::exchange(stopping_, true)) return;
    for (const auto& [rank, other] : others_)
        if (!other.ended) ranks_.send(rank, packed({{"stop", true}}));
}

void RankService::dismiss(const std::string& why) noexcept {
    const Clock::time_point begin = Clock::now();
    for (bool is_more = true;
         is_more && std::chrono::duration<double>(Clock::now() - begin).count() < patience_;)
        try {
            ask_to_stop();
            is_more = turn();
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        } catch (...) {
            // What is wrong is known already.
        }
    if (std::all_of(others_.begin(), others_.end(), [](const auto& other) { return other.second.ended; }))
        return;
    try {
        warn_once(why);
    } catch (...) {
    }
    ranks_.abandon();
}

void RankService::answer(const RankMessage& message) {
    const auto what = message.head.at("do").get<std::string>();
    const RunWorker worker = worker_of(message);
    if (what != "alive" && what != "batch") keep_epochs();  // in the order in which they came
    if (what == "alive") {
        ranks_.send(message.from, packed({{"alive", true}}));
    } else if (what == "greet") {
        greet(message);
    } else if (what == "end") {
        end(message.from);
        reply(message, Json::object());
    } else if (what == "backbone" || what == "images") {
        try {
            reply(message, Json::object(), supplies(what, message.head));
        } catch (const InputError& error) {
            reply(message, {{"refused", error.what()}});  // one that ends, and no more
        }
    } else if (what == "note") {
        warn_once(fmt::format("{}: {}", called(message.from), message.head.at("text").get<std::string>()));
    } else if (what == "run") {
        waiting_.insert_or_assign(worker, message);
    } else if (const auto found = entrusted_.find(worker); found != entrusted_.end()) {
        Entrusted& run = *found->second;
        if (what == "started") {
            reporter_.started(run.taken.place, run.taken.record,
                              message.head.at("epochs").get<std::int64_t>());
        } else if (what == "batch") {
            reporter_.batch(run.taken.place, run.taken.record, message.head.at("batch").get<std::int64_t>(),
                            message.head.at("batches").get<std::int64_t>());
        } else {
            try {
                const Answer answered = kept(run, what, message);
                reply(message, answered.head, answered.body);
            } catch (const Error& error) {
                reply(message, {{"refused", error.what()}});
                throw;
            }
        }
    } else if (message.head.contains("question")) {
        reply(message, {{"refused", no_run}});
    }
}

// What a machine lacks: the file of a backbone, or fitted images. InputError when it is gone here, too.
std::string RankService::supplies(const std::string& what, const Json& head) const {
    if (what == "backbone") {
        const auto name = head.at("name").get<std::string>();
        for (const BackbonePlan& backbone : materials_.plan.backbones)
            if (backbone.name == name) return read_text(backbone.file);
        throw InputError(fmt::format("the plan has no backbone '{}'", printable(name)));
    }
    std::string pixels;
    std::vector<std::uint8_t> image(static_cast<std::size_t>(materials_.images->values_per_image()));
    for (const auto item : head.at("items").get<std::vector<std::size_t>>()) {
        if (item >= materials_.set.items.size()) throw InputError("the image set has no such item");
        materials_.images->read_pixels(item, image);
        pixels += as_text(std::as_bytes(std::span(image)));
    }
    return pixels;
}

// A rank takes no further part; what it has is for others.
void RankService::end(int rank) {
    others_.at(rank).ended = true;
    std::erase_if(waiting_, [&](const auto& entry) { return entry.first.rank == rank; });
    std::vector<std::size_t> left;
    std::erase_if(entrusted_, [&](const auto& entry) {
        if (entry.first.rank != rank) return false;
        left.push_back(entry.second->taken.place);
        return true;
    });
    for (const std::size_t place : left) runs_.leave(place);
    runs_.gone(rank);
}

void RankService::greet(const RankMessage& message) {
    Rank& other = others_.at(message.from);
    other.host = message.head.at("host").get<std::string>();
    const RankGreeting here = rank_greeting();
    const auto said = [&](const char* key) { return message.head.at(key).get<std::string>(); };
    if (said("version") != here.version) {
        const std::string reason =
            fmt::format("it has version {} of Jevrin and rank 0 version {}; install the same on all machines",
                        said("version"), here.version);
        warn_once(fmt::format("{} takes no part: {}", called(message.from), reason));
        reply(message, {{"refused", reason}});
        return;
    }
    for (const auto& [key, ours, name] :
         {std::tuple("processor", here.processor, "processor"), std::tuple("build", here.build, "build")})
        if (said(key) != ours && is_shared_ && !mixed_)
            throw InputError(
                fmt::format("{} has another {} than rank 0 ({}, here {}): ranks that train a run together "
                            "must be of one kind, or its "
                            "bits depend on who computed what; use such machines, or allow mixed processors",
                            called(message.from), name, printable(said(key)), printable(ours)));
        else if (said(key) != ours)
            warn_once(fmt::format(
                "{} has another {} than rank 0 ({}, here {}): its runs are sound, but not the same bits as "
                "those that are trained here",
                called(message.from), name, printable(said(key)), printable(ours)));
    Json greeted = Json::object();
    greeted["answer"] = message.head.at("question");
    greeted["brief"] = true;
    ranks_.send(message.from, packed(greeted, brief_));
}

// To those who wait for one; when all is done they are told.
void RankService::give_runs() {
    for (auto waiting = waiting_.begin(); waiting != waiting_.end();) {
        const auto& [worker, message] = *waiting;
        std::optional<ClaimedRun> taken;
        if (!stopping_) taken = runs_.take(writer_, worker);
        if (!taken && !stopping_ && !runs_.all_done()) {
            ++waiting;
            continue;
        }
        Json head = Json::object();
        if (taken) {
            const PlannedRun& planned = runs_.planned(taken->place);
            head["run"] = record_json(taken->record);
            head["identity"] = planned.identity.identity;
            entrusted_.insert_or_assign(
                worker, std::make_unique<Entrusted>(writer_, std::move(*taken), materials_, planned));
        }
        reply(message, head);
        waiting = waiting_.erase(waiting);
    }
}

// What a rank says of the run that it trains, and the answer. The run may be gone afterwards.
RankService::Answer RankService::kept(Entrusted& run, const std::string& what, const RankMessage& message) {
    const Json& head = message.head;
    const auto text = [&](const char* key) { return head.at(key).get<std::string>(); };
    Answer answer;
    if (what == "past") {
        const RunPast past = run.keeper.past();
        run.taken.record = past.record;
        answer.head = past_json(past);
        answer.head["owner"] = run.keeper.owner();
        if (past.state) answer.body = as_text(checkpoint_bytes(*past.state));
    } else if (what == "forget_epochs") {
        run.taken.record = run.keeper.forget_epochs();
        answer.head["record"] = record_json(run.taken.record);
    } else if (what == "begin") {
        run.keeper.begin(text("plan"), text("environment"));
        run.taken.record.state = RunState::training;
    } else if (what == "save") {
        run.keeper.save(as_bytes(message.body));
    } else if (what == "model") {
        if (content_hash(message.body) != text("hash"))
            throw WorkError(
                fmt::format("the model file that {} sent was altered on its way", called(message.from)));
        const auto epoch = head.at("epoch").get<std::int64_t>();
        write_file(run.keeper.model_file(epoch), as_bytes(message.body));
        if (epoch > 0) run.keeper.put_epoch_model(epoch);
    } else if (what == "finish") {
        finish(run, message);
        runs_.finish(run.taken.place);
        release(worker_of(message));
    } else if (what == "fail") {
        runs_.fail(run.taken.place, writer_, text("reason"));
        release(worker_of(message));
    } else if (what == "leave") {
        const std::size_t place = run.taken.place;
        entrusted_.erase(worker_of(message));  // and its claim with it
        runs_.leave(place);
    } else {
        throw WorkError(
            fmt::format("{} asks for '{}', which rank 0 does not know", called(message.from), what));
    }
    return answer;
}

// Those that have arrived, together; each rank is told whether its run goes on there.
void RankService::keep_epochs() {
    epochs_bytes_ = 0;
    std::vector<RankMessage> messages;
    std::vector<LedgerRunKeeper::FinishedEpoch> finished;
    for (RankMessage& message : std::exchange(epochs_, {})) {
        if (!entrusted_.contains(worker_of(message)))
            reply(message, {{"refused", no_run}});
        else
            messages.push_back(std::move(message));
    }
    if (messages.empty()) return;
    try {
        for (const RankMessage& message : messages)
            finished.push_back({entrusted_.at(worker_of(message))->keeper, as_bytes(message.body),
                                note_from_text(message.head.at("note").get<std::string>()).value()});
        LedgerRunKeeper::finish_epochs(writer_, finished);
    } catch (const Error& error) {
        for (const RankMessage& message : messages) reply(message, {{"refused", error.what()}});
        throw;
    }
    for (std::size_t i = 0; i < messages.size(); ++i) {
        const RunWorker worker = worker_of(messages[i]);
        const EpochNote& note = finished[i].note;
        ClaimedRun& run = entrusted_.at(worker)->taken;
        run.record.epochs = note.epoch.epoch;
        if (note.best) run.record.best = note.epoch;
        reporter_.epoch(run.place, run.record, note);
        const std::int64_t left = runs_.planned(run.place).epochs - note.epoch.epoch;
        reply(messages[i], {{"goes_on", !runs_.should_move(run.place, worker, left)}});
    }
}

void RankService::finish(Entrusted& run, const RankMessage& message) {
    const auto predicted = message.head.at("predicted").get<std::vector<std::size_t>>();
    const auto cost = message.head.at("cost").get<std::vector<double>>();
    const std::size_t classes = materials_.set.classes.size();
    if (predicted.size() != run.validated.size() ||
        message.body.size() != predicted.size() * classes * sizeof(float))
        throw WorkError(
            fmt::format("{} sent predictions of other items than its run has", called(message.from)));
    std::vector<PredictionRecord> rows;
    for (std::size_t i = 0; i < predicted.size(); ++i) {
        const Item& item = materials_.set.items[run.validated[i]];
        std::vector<float> probabilities(classes);
        std::memcpy(probabilities.data(), message.body.data() + i * classes * sizeof(float),
                    classes * sizeof(float));
        rows.push_back({item.id, item.label, predicted[i], std::move(probabilities)});
    }
    run.keeper.finish(rows, {cost.at(0), cost.at(1), static_cast<std::int64_t>(cost.at(2))});
}

// A run that is over, finished or failed.
void RankService::release(RunWorker worker) {
    const RunId id = entrusted_.at(worker)->taken.record.id;
    entrusted_.erase(worker);
    reporter_.ended(writer_.ledger().run_by_id(id));
}

}  // namespace jevrin::inline v1
