// The models of a service, made ready. What is published or withdrawn in the store counts within a second;
// requests that have begun end with the version that they have begun with.
#pragma once

#include "jevrin/server/batched_classifier.hpp"
#include "jevrin/server/service_store.hpp"

#include <condition_variable>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <set>
#include <string>
#include <thread>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

struct ServedModel {
    ServedModel(PublishedModel of, Classifier classes, const BatchSettings& settings)
        : published(std::move(of)), classifier(std::move(classes), settings) {}

    PublishedModel published;
    BatchedClassifier classifier;
};

// What became of a version.
enum class ModelChange { ready, withdrawn, failed };
const EnumNames<ModelChange>& names_of(ModelChange);

// Safe to call from several threads.
class ServedModels {
  public:
    struct Settings {
        std::chrono::microseconds delay{0};  // as BatchSettings::delay
        // Told of the images that were classified together. May be empty.
        std::function<void(std::size_t images)> batch = {};
        // Told of each version; failure says why it cannot be served. May be empty.
        std::function<void(const PublishedModel& model, ModelChange change, const std::string& failure)>
            changed = {};
    };

    // Makes ready what is in service now.
    ServedModels(const std::filesystem::path& directory, const Settings& settings);
    ~ServedModels();
    ServedModels(const ServedModels&) = delete;
    ServedModels& operator=(const ServedModels&) = delete;

    // Without a version the last one. Null when there is none.
    std::shared_ptr<ServedModel> find(const std::string& name, std::int64_t version = 0) const;
    // By name and version.
    std::vector<std::shared_ptr<ServedModel>> all() const;
    // Versions in service that cannot be served.
    std::size_t failed() const;

  private:
    using Place = std::pair<std::string, std::int64_t>;  // name, version
    void refresh();
    void make_ready(const PublishedModel& model);
    void follow();

    Settings settings_;
    ServiceStore store_;
    mutable std::mutex mutex_;
    std::map<Place, std::shared_ptr<ServedModel>> ready_;
    std::set<Place> failed_;
    std::condition_variable stopped_;
    bool stop_ = false;
    std::thread thread_;
};

}  // namespace jevrin::inline v1
