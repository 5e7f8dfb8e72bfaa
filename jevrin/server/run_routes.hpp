// Takes runs that are trained elsewhere over HTTP, while they train.
//
// The routes without a socket, and without the question who may ask (ServiceRoutes). server/api/openapi.json
// describes them. Each answer of a write is given when what it says is durable; a repeated request is
// answered as the first.
#pragma once

#include "jevrin/server/http_message.hpp"

#include <filesystem>
#include <memory>

namespace jevrin::inline v1 {

// Safe to call from several threads.
class RunRoutes {
  public:
    // InputError when there is no ledger.
    explicit RunRoutes(const std::filesystem::path& ledger);
    ~RunRoutes();
    RunRoutes(const RunRoutes&) = delete;
    RunRoutes& operator=(const RunRoutes&) = delete;

    // /v1/runs and below, and /v1/parts. What goes wrong is a problem document.
    HttpResponse respond(const HttpRequest& request);

  private:
    HttpResponse respond_or_refuse(const HttpRequest& request);

    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
