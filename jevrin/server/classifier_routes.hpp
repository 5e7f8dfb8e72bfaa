// Models in service over HTTP: images are classified, and answers contradicted.
//
// The routes without a socket, and without the question who may ask (ServiceRoutes). server/api/openapi.json
// describes them.
#pragma once

#include "jevrin/server/http_message.hpp"
#include "jevrin/server/served_models.hpp"

#include <filesystem>
#include <functional>
#include <memory>
#include <string>

namespace jevrin::inline v1 {

// Safe to call from several threads.
class ClassifierRoutes {
  public:
    struct Settings {
        ServedModels::Settings models = {};
        // Told of the answers of each request. May be empty.
        std::function<void(const PublishedModel& model, std::span<const ImageOutcome> outcomes)> answered =
            {};
    };

    // InputError when there is no ledger.
    ClassifierRoutes(const std::filesystem::path& ledger, const Settings& settings);
    ~ClassifierRoutes();
    ClassifierRoutes(const ClassifierRoutes&) = delete;
    ClassifierRoutes& operator=(const ClassifierRoutes&) = delete;

    // /v1/classifiers and below; key: the name of the one that asks. What goes wrong is a problem document.
    HttpResponse respond(const HttpRequest& request, const std::string& key);

    const ServedModels& models() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
