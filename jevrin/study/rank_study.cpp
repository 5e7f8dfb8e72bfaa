#include "jevrin/study/rank_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/version.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/study/feature_pools.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/rank_client.hpp"
#include "jevrin/study/rank_run_keeper.hpp"
#include "jevrin/study/run_execution.hpp"
#include "jevrin/study/run_team.hpp"
#include "jevrin/study/runs_at_once.hpp"
#include "jevrin/study/shard_team.hpp"
#include "jevrin/study/study_brief.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <memory>
#include <mutex>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {
namespace {

using Clock = std::chrono::steady_clock;

std::string host_name() {
    std::array<char, 256> name{};
    return ::gethostname(name.data(), name.size() - 1) == 0 ? printable(name.data()) : "unknown host";
}

// The study as this rank sees it, and the threads that train its runs.
class RankStudy {
  public:
    RankStudy(Ranks& ranks, const HelpOptions& options)
        : options_(options),
          size_(ranks.size()),
          client_(ranks, options.patience),
          scratch_(std::filesystem::temp_directory_path()) {}

    void carry_out() {
        try {
            gather();
            if (options_.team != nullptr) shared_.emplace(*options_.team);
            if (shared_ && !shared_->leads()) {
                follow();
                client_.ask({{"do", "end"}});
                return;
            }
            const std::int64_t at_once =
                shared_ ? 1 : runs_at_once(require_memory_of(*materials_, runs_), at_once_, size_);
            team_.emplace(static_cast<std::size_t>(at_once), [this] {
                return client_.stop_requested() || (options_.stop_requested && options_.stop_requested());
            });
            const TeamEnd end{shared_ ? &*shared_ : nullptr};
            team_->carry_out([this](std::size_t member) { train_runs(static_cast<int>(member)); });
        } catch (const Interrupted&) {
            if (client_.is_sent_home()) return;
            // What it trained is saved.
        } catch (const Error& error) {
            if (client_.is_lost()) throw;
            client_.tell(
                {{"do", "note"}, {"text", fmt::format("it takes no further part: {}", error.what())}});
        }
        client_.ask({{"do", "end"}});
    }

  private:
    void gather() {
        const RankGreeting here = rank_greeting();
        const RankMessage answer = client_.ask({{"do", "greet"},
                                                {"host", here.host},
                                                {"version", here.version},
                                                {"build", here.build},
                                                {"processor", here.processor}});
        const Json brief = unpacked({.from = 0, .bytes = answer.body}).head;
        keep_epochs_ = brief.at("keep_epochs").get<bool>();
        at_once_ = brief.at("at_once").get<std::int64_t>();
        if (brief.at("stores").get<bool>()) stores_ = Ledger::stores(options_.ledger);
        Supplied supplied;
        materials_ = materials_from(brief, stores_,
                                    {.backbone =
                                         [&](const std::string& name) {
                                             return client_.ask({{"do", "backbone"}, {"name", name}}).body;
                                         },
                                     .images =
                                         [&](const std::vector<std::size_t>& items) {
                                             return client_.ask({{"do", "images"}, {"items", items}}).body;
                                         }},
                                    supplied);
        if (supplied.images > 0)
            client_.tell(
                {{"do", "note"},
                 {"text", fmt::format("{} of {} images are missing on this machine, or are others; they "
                                      "came from rank 0",
                                      supplied.images, materials_->set.items.size())}});
        runs_ = plan_runs(*materials_);
        pools_.emplace(*materials_, stores_);
    }

    const PlannedRun& planned(const std::string& name, const std::string& identity) const {
        for (const PlannedRun& run : runs_)
            if (run.identity.identity == identity && run.name() == name) return run;
        throw WorkError(fmt::format(
            "what this rank makes of the plan is not what rank 0 makes of it ('{}'); the plan, its images or "
            "backbones changed since it was read",
            printable(name)));
    }

    // Trains what the leader of the team trains.
    void follow() {
        while (const std::optional<ShardTeam::Run> given = shared_->next()) {
            const PlannedRun& run = planned(given->name, given->identity);
            FollowingKeeper keeper(*shared_);
            RunEvents events;
            events.stop_requested = [&] { return options_.stop_requested && options_.stop_requested(); };
            try {
                RunExecution(keeper, *materials_, run,
                             {.pool = pools_->pool_for(run), .link = &shared_->link()}, events)
                    .carry_out();
            } catch (const RunError&) {
                // The leader says it.
            } catch (const Interrupted&) {
                // The leader knows whether another run follows.
            }
        }
    }

    void train_runs(int thread) {
        for (;;) {
            if (team_->stop_requested()) throw Interrupted("stopped before the next run began");
            const RankMessage given = waited_for(thread);
            if (!given.head.contains("run")) return;
            train(thread, planned(record_from(given.head.at("run")).name(),
                                  given.head.at("identity").get<std::string>()));
        }
    }

    RankMessage waited_for(int thread) {
        RankMessage given;
        team_->rest([&] { given = client_.ask({{"do", "run"}, {"thread", thread}}); });
        return given;
    }

    void train(int thread, const PlannedRun& run) {
        const auto say = [&](const char* what) { return Json{{"do", what}, {"thread", thread}}; };
        RankRunKeeper keeper(client_, thread, scratch_.path());
        RunEvents events;
        events.started = [&](const RunRecord&, std::int64_t resumed) {
            Json started = say("started");
            started["epochs"] = resumed;
            client_.tell(started);
        };
        Clock::time_point told = Clock::now();
        events.progress = [&](const RunRecord&, std::int64_t batch, std::int64_t batches) {
            team_->pass();
            constexpr std::chrono::milliseconds between{300};
            if (Clock::now() - told < between) return;
            told = Clock::now();
            Json progress = say("batch");
            progress["batch"] = batch;
            progress["batches"] = batches;
            client_.tell(progress);
        };
        events.warning = [&](const std::string& message) {
            client_.tell({{"do", "note"}, {"text", message}});
        };
        events.stop_requested = [&] { return team_->stop_requested(); };
        events.alone = [&](const std::function<void()>& work) { team_->alone(work); };
        std::optional<LeadingKeeper> leading;
        if (shared_) leading.emplace(keeper, *shared_);
        if (shared_) shared_->begin(run);
        RunKeeper& kept = leading ? static_cast<RunKeeper&>(*leading) : keeper;
        try {
            RunExecution(kept, *materials_, run,
                         {.pool = pools_->pool_for(run), .keep_epochs = keep_epochs_, .link = options_.team},
                         events)
                .carry_out();
        } catch (const RunError& error) {
            Json failed = say("fail");
            failed["reason"] = error.what();
            client_.ask(failed);
        } catch (const Interrupted&) {
            client_.ask(say("leave"));
            if (team_->stop_requested()) throw;
        }
    }

    const HelpOptions& options_;
    int size_;
    RankClient client_;
    StagingDirectory scratch_;
    std::optional<std::filesystem::path> stores_;
    std::shared_ptr<const Materials> materials_;
    std::vector<PlannedRun> runs_;
    std::optional<FeaturePools> pools_;
    bool keep_epochs_ = false;
    std::int64_t at_once_ = 0;
    std::optional<ShardTeam> shared_;
    std::optional<RunTeam> team_;
};

}  // namespace

RankGreeting rank_greeting() {
    static const std::string build = content_hash_of_file("/proc/self/exe").substr(0, 12);
    return {.host = host_name(), .version = library_version(), .build = build, .processor = processor().name};
}

void send_home(Ranks& ranks) {
    for (int rank = 1; rank < ranks.size(); ++rank) ranks.send(rank, packed({{"go", "home"}}));
}

void help_train(Ranks& ranks, const HelpOptions& options) {
    RankStudy(ranks, options).carry_out();
}

}  // namespace jevrin::inline v1
