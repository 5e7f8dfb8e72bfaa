#include "jevrin/server/served_models.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <limits>

namespace jevrin::inline v1 {
namespace {

constexpr std::chrono::milliseconds between_scans{250};

}  // namespace

const EnumNames<ModelChange>& names_of(ModelChange) {
    static const EnumNames<ModelChange> names("the change", {{ModelChange::ready, "ready"},
                                                             {ModelChange::withdrawn, "withdrawn"},
                                                             {ModelChange::failed, "failed"}});
    return names;
}

ServedModels::ServedModels(const std::filesystem::path& directory, const Settings& settings)
    : settings_(settings), store_(directory) {
    refresh();
    thread_ = std::thread([this] { follow(); });
}

ServedModels::~ServedModels() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    stopped_.notify_all();
    thread_.join();
}

std::shared_ptr<ServedModel> ServedModels::find(const std::string& name, std::int64_t version) const {
    const std::lock_guard lock(mutex_);
    if (version > 0) {
        const auto found = ready_.find({name, version});
        return found == ready_.end() ? nullptr : found->second;
    }
    auto after = ready_.upper_bound({name, std::numeric_limits<std::int64_t>::max()});
    if (after == ready_.begin()) return nullptr;
    --after;
    return after->first.first == name ? after->second : nullptr;
}

std::vector<std::shared_ptr<ServedModel>> ServedModels::all() const {
    const std::lock_guard lock(mutex_);
    std::vector<std::shared_ptr<ServedModel>> models;
    for (const auto& [place, model] : ready_) models.push_back(model);
    return models;
}

std::size_t ServedModels::failed() const {
    const std::lock_guard lock(mutex_);
    return failed_.size();
}

void ServedModels::follow() {
    std::int64_t changes = -1;
    std::unique_lock lock(mutex_);
    while (!stopped_.wait_for(lock, between_scans, [this] { return stop_; })) {
        lock.unlock();
        try {
            if (const std::int64_t now = store_.changes(); now != changes) {
                refresh();
                changes = now;
            }
        } catch (const Error&) {
            // The store cannot be read now; what is served stays.
        }
        lock.lock();
    }
}

void ServedModels::refresh() {
    std::map<Place, PublishedModel> wanted;
    for (PublishedModel& model : store_.models()) {
        const Place place(model.name, model.version);
        if (model.withdrawn.empty()) wanted.emplace(place, std::move(model));
    }
    for (const auto& [place, model] : wanted) {
        const bool is_new = [&] {
            const std::lock_guard lock(mutex_);
            return !ready_.contains(place) && !failed_.contains(place);
        }();
        if (is_new) make_ready(model);
    }
    // Those that go are destroyed when the last request has let go of them.
    std::vector<std::shared_ptr<ServedModel>> withdrawn;
    {
        const std::lock_guard lock(mutex_);
        std::erase_if(ready_, [&](auto& model) {
            if (wanted.contains(model.first)) return false;
            withdrawn.push_back(std::move(model.second));
            return true;
        });
        std::erase_if(failed_, [&](const Place& model) { return !wanted.contains(model); });
    }
    if (settings_.changed)
        for (const auto& model : withdrawn) settings_.changed(model->published, ModelChange::withdrawn, "");
}

void ServedModels::make_ready(const PublishedModel& model) {
    std::string failure;
    try {
        const std::filesystem::path file = store_.model_file(model);
        if (content_hash_of_file(file) != model.hash) throw InputError("its file is damaged");
        auto ready = std::make_shared<ServedModel>(
            model, load_classifier(file),
            BatchSettings{.delay = settings_.delay, .sure_from = model.sure_from, .batch = settings_.batch});
        const std::lock_guard lock(mutex_);
        ready_[{model.name, model.version}] = std::move(ready);
    } catch (const std::exception& error) {
        failure = error.what();
        const std::lock_guard lock(mutex_);
        failed_.emplace(model.name, model.version);
    }
    if (settings_.changed)
        settings_.changed(model, failure.empty() ? ModelChange::ready : ModelChange::failed, failure);
}

}  // namespace jevrin::inline v1
