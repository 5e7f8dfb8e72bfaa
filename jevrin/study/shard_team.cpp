#include "jevrin/study/shard_team.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/rank_run_keeper.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr int team_channel = 4;
// What a leader says when it cannot go on.
constexpr const char* failed = "failed";

}  // namespace

std::string ShardTeam::told(const std::string& by_leader) {
    std::uint64_t length = by_leader.size();
    const std::span<std::uint64_t> one(&length, 1);
    std::string text = by_leader;
    if (leads()) {
        for (int rank = 1; rank < link_.size(); ++rank) {
            link_.send(rank, team_channel, std::as_bytes(one));
            link_.send(rank, team_channel, as_bytes(text));
        }
    } else {
        link_.receive(0, team_channel, std::as_writable_bytes(one));
        text.resize(length);
        link_.receive(0, team_channel, std::as_writable_bytes(std::span(text.data(), text.size())));
        if (text == failed) throw WorkError("the rank that leads this one cannot go on");
    }
    return text;
}

void ShardTeam::begin(const PlannedRun& run) {
    told(packed({{"name", run.name()}, {"identity", run.identity.identity}}));
}

void ShardTeam::end() {
    told(packed(Json::object()));
}

std::optional<ShardTeam::Run> ShardTeam::next() {
    const Json head = unpacked({.from = 0, .bytes = told()}).head;
    if (!head.contains("name")) return std::nullopt;
    return Run{head.at("name").get<std::string>(), head.at("identity").get<std::string>()};
}

namespace {

// Calls work(), and lets the team know when it fails.
template <typename Work>
auto or_told(ShardTeam& team, const Work& work) {
    try {
        return work();
    } catch (const Error&) {
        team.told(failed);
        throw;
    }
}

}  // namespace

RunPast LeadingKeeper::past() {
    RunPast past = or_told(team_, [&] { return keeper_.past(); });
    team_.told(
        packed(past_json(past), past.state ? std::string(as_text(checkpoint_bytes(*past.state))) : ""));
    return past;
}

bool LeadingKeeper::finish_epoch(TrainingState state, const EpochNote& note) {
    const bool goes_on = or_told(team_, [&] { return keeper_.finish_epoch(std::move(state), note); });
    team_.told(goes_on ? "on" : "off");
    return goes_on;
}

bool LeadingKeeper::agree(bool mine) {
    return team_.told(mine ? "yes" : "no") == "yes";
}

RunPast FollowingKeeper::past() {
    RunPast past = past_from(unpacked({.from = 0, .bytes = team_.told()}));
    record_ = past.record;
    return past;
}

RunRecord FollowingKeeper::forget_epochs() {
    record_.epochs = 0;
    record_.best.reset();
    return record_;
}

bool FollowingKeeper::finish_epoch(TrainingState, const EpochNote&) {
    return team_.told() == "on";
}

bool FollowingKeeper::agree(bool) {
    return team_.told() == "yes";
}

}  // namespace jevrin::inline v1
