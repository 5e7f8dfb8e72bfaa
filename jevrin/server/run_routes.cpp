#include "jevrin/server/run_routes.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/parts_list.hpp"
#include "jevrin/external/statement_reader.hpp"
#include "jevrin/ledger/ledger_pool.hpp"
#include "jevrin/results/external_result.hpp"
#include "jevrin/server/problem.hpp"
#include "jevrin/server/request_reading.hpp"
#include "jevrin/server/write_queue.hpp"

#include <fmt/format.h>

#include <map>
#include <mutex>
#include <optional>
#include <vector>

namespace jevrin::inline v1 {
namespace {

PredictionForm form_of(const HttpRequest& request) {
    const std::string type = media_type(request);
    if (type == "text/csv") return PredictionForm::csv;
    if (type == "application/x-npy") return PredictionForm::npy;
    if (type == "application/json") return PredictionForm::json;
    throw RefusedRequest{problem(415, "predictions are text/csv, application/x-npy or application/json")};
}

// The text without all of a part of it.
std::string without(std::string text, const std::string& part) {
    for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at))
        text.erase(at, part.size());
    return text;
}

Json state_json(const IntakeState& state) {
    const RunRecord& run = state.run;
    return {{"id", run.id.number},
            {"run", run.name()},
            {"study", run.study},
            {"state", name_of(run.state)},
            {"epochs", run.epochs},
            {"waiting", state.waiting},
            {"predictions", state.has_predictions},
            {"best_epoch", run.best ? Json(run.best->epoch) : Json()},
            {"reason", run.reason}};
}

}  // namespace

struct RunRoutes::State {
    explicit State(const std::filesystem::path& ledger) : directory(ledger), ledgers(ledger), queue(ledger) {}

    std::filesystem::path directory;
    LedgerPool ledgers;
    WriteQueue queue;
    std::mutex models;  // one is taken in at a time
    std::mutex mutex;
    std::map<RunId, std::shared_ptr<const ValidationRows>> rows;  // of the runs that came last

    static constexpr std::size_t most_rows = 64;

    std::shared_ptr<const ValidationRows> rows_of(RunId run) {
        {
            const std::lock_guard lock(mutex);
            if (const auto known = rows.find(run); known != rows.end()) return known->second;
        }
        auto found = std::make_shared<const ValidationRows>(
            ledgers.with([&](const Ledger& ledger) { return rows_of_run(ledger, run); }));
        const std::lock_guard lock(mutex);
        if (rows.size() >= most_rows) rows.clear();
        rows[run] = found;
        return found;
    }

    HttpResponse parts(const HttpRequest& request) {
        if (request.method != "GET" && request.method != "HEAD") return not_allowed("GET");
        const std::string fold = request.parameter("fold");
        const PartsResult result = ledgers.with([&](const Ledger& ledger) {
            return PartsResult{
                list_parts(ledger, study_called(ledger, request.parameter("study")),
                           {.fold = fold.empty() || fold == "0" ? 0 : number_in(fold, "fold")})};
        });
        if (request.parameter("form") == "csv")
            return {.type = "text/csv; charset=utf-8", .body = to_table(result).csv()};
        return {.body = to_json(result)};
    }

    HttpResponse create(const HttpRequest& request) {
        const RunStatement statement = read_run_statement(json_body(request, "the run"), "the run");
        return queue.carry_out([statement](RunIntake& intake) {
            const RunIntake::Created created = intake.create(statement);
            HttpResponse response =
                json_response(created.is_new ? 201 : 200, state_json(intake.state(created.run)));
            response.headers.emplace_back("Location", fmt::format("/v1/runs/{}", created.run.number));
            return response;
        });
    }

    HttpResponse state(RunId run) {
        return json_response(
            200, state_json(ledgers.with([&](const Ledger& ledger) { return intake_state(ledger, run); })));
    }

    HttpResponse add_epoch(const HttpRequest& request, RunId run, std::int64_t epoch) {
        const std::string place = fmt::format("epoch {}", epoch);
        Json json = json_body(request, place);
        if (json.is_object() && !json.contains("epoch")) json["epoch"] = epoch;
        const auto statement =
            std::make_shared<const EpochStatement>(read_epoch_statement(json, *rows_of(run), place));
        if (statement->epoch.epoch != epoch)
            throw InputError(fmt::format("{}: the body is epoch {}", place, statement->epoch.epoch));
        return queue.carry_out([run, place, statement](RunIntake& intake) {
            const bool is_new = intake.add_epoch(run, *statement, place);
            return json_response(is_new ? 201 : 200, {{"epoch", statement->epoch.epoch}, {"new", is_new}});
        });
    }

    HttpResponse add_predictions(const HttpRequest& request, RunId run) {
        const auto part = rows_of(run);
        auto records = std::make_shared<std::vector<PredictionRecord>>(prediction_records(
            *part, read_stated_predictions(request.body, form_of(request), *part, "predictions")));
        return queue.carry_out([run, records](RunIntake& intake) {
            const bool is_new = intake.add_predictions(run, *records, "predictions");
            return json_response(is_new ? 201 : 200, {{"items", records->size()}, {"new", is_new}});
        });
    }

    // Images are classified with it here, beside what others write.
    HttpResponse add_model(const HttpRequest& request, RunId run) {
        if (media_type(request) != "application/octet-stream")
            throw RefusedRequest{problem(415, "a model is an ONNX file, application/octet-stream")};
        const std::lock_guard one_at_a_time(models);
        std::string root;
        const StagingDirectory received(directory / "models");
        const std::filesystem::path file = received.path() / "model.onnx";
        try {
            write_file(file, request.body);
            const std::optional<StoredModel> stored =
                ledgers.with([&](const Ledger& ledger) -> std::optional<StoredModel> {
                    const RunRecord record = intake_state(ledger, run).run;
                    root = ledger.study(record.study).image_root;
                    if (ledger.model_hash(run)) return std::nullopt;
                    return store_external_model(file, ledger, record);
                });
            if (!stored) return json_response(200, {{"new", false}});
            return queue.carry_out([run, stored](RunIntake& intake) {
                intake.put_model(run, *stored);
                return json_response(201, {{"new", true}});
            });
        } catch (const ConflictError&) {
            throw;
        } catch (const NoRow&) {
            throw;
        } catch (const InputError& error) {
            // Where models and images lie is nobody's business.
            throw InputError(without(without(error.what(), received.path().string() + "/"), root + "/"));
        }
    }

    HttpResponse finish(const HttpRequest& request, RunId run) {
        std::int64_t best_epoch = 0;
        if (!request.body.empty()) {
            const Json json = json_body(request, "finish");
            StatementReader reader(json, "finish");
            best_epoch = reader.integer("best_epoch", 1, 0);
            reader.require_all_known();
        }
        return queue.carry_out([run, best_epoch](RunIntake& intake) {
            intake.finish(run, best_epoch);
            return json_response(200, state_json(intake.state(run)));
        });
    }

    HttpResponse fail(const HttpRequest& request, RunId run) {
        const Json json = json_body(request, "fail");
        StatementReader reader(json, "fail");
        const std::string reason = reader.text("reason", "not stated");
        reader.require_all_known();
        return queue.carry_out([run, reason](RunIntake& intake) {
            intake.fail(run, reason);
            return json_response(200, state_json(intake.state(run)));
        });
    }

    HttpResponse route(const HttpRequest& request) {
        const std::vector<std::string> path = segments_of(request.path);
        const std::string& method = request.method;
        if (path.size() == 2 && path[1] == "parts") return parts(request);
        if (path.size() < 2 || path[1] != "runs" || path.size() > 5)
            return problem(404, "there is nothing at this address");
        if (path.size() == 2) return method == "POST" ? create(request) : not_allowed("POST");
        const RunId run{number_in(path[2], "number of a run")};
        if (path.size() == 3) return method == "GET" || method == "HEAD" ? state(run) : not_allowed("GET");
        if (path.size() == 5 && path[3] == "epochs")
            return method == "PUT" ? add_epoch(request, run, number_in(path[4], "epoch"))
                                   : not_allowed("PUT");
        if (path.size() == 4 && path[3] == "predictions")
            return method == "PUT" ? add_predictions(request, run) : not_allowed("PUT");
        if (path.size() == 4 && path[3] == "model")
            return method == "PUT" ? add_model(request, run) : not_allowed("PUT");
        if (path.size() == 4 && path[3] == "finish")
            return method == "POST" ? finish(request, run) : not_allowed("POST");
        if (path.size() == 4 && path[3] == "fail")
            return method == "POST" ? fail(request, run) : not_allowed("POST");
        return problem(404, "there is nothing at this address");
    }
};

RunRoutes::RunRoutes(const std::filesystem::path& ledger) : state_(std::make_unique<State>(ledger)) {}
RunRoutes::~RunRoutes() = default;

HttpResponse RunRoutes::respond(const HttpRequest& request) {
    HttpResponse response = respond_or_refuse(request);
    // Where the ledger lies is nobody's business: what says so is a damage that no client can mend.
    if (response.status >= 400 &&
        response.body.find(state_->directory.filename().string() + "/ledger.db") != std::string::npos)
        return problem(503, "the ledger cannot be read now");
    return response;
}

HttpResponse RunRoutes::respond_or_refuse(const HttpRequest& request) {
    try {
        return state_->route(request);
    } catch (const RefusedRequest& refusal) {
        return refusal.response;
    } catch (const ConflictError& error) {
        return problem(409, error.what());
    } catch (const NoRow&) {
        return problem(404, "there is no run with this number");
    } catch (const InputError& error) {
        return problem(422, error.what());
    } catch (const std::exception&) {
        return problem(503, "the ledger cannot be read now");
    }
}

}  // namespace jevrin::inline v1
