#include "jevrin/training/boundary_features.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/threads.hpp"
#include "jevrin/tensor/libraries.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cassert>
#include <cstring>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t feature_batch = 32;

// Everything that decides what augmentation does to an image, as text.
std::string words_of(const Augmentation& a) {
    std::string text =
        fmt::format("{} {} {} {} {} {} {} {} {} {} {} {} {}", a.flip, a.flip_vertical, a.shift, a.rotation,
                    a.scale, a.crop, a.brightness, a.contrast, a.saturation, a.hue, a.noise, a.blur, a.erase);
    for (const Overlay& o : a.overlays)
        text +=
            fmt::format(" {} {} {} {} {}", content_hash(std::as_bytes(std::span(o.cutout->colours.pixels))),
                        o.probability, o.at, o.size, o.opacity);
    return text;
}

// Unless it was told not to.
bool uses_winograd(const Network& network) {
    return std::none_of(network.nodes.begin(), network.nodes.end(), [](const Node& node) {
        const operators::Convolution* convolution = std::get_if<operators::Convolution>(&node.op);
        return convolution != nullptr && !convolution->winograd;
    });
}

}  // namespace

AugmentationKey key_of_view(std::uint32_t view) {
    return {.seed = 0, .epoch = view};
}

// A workspace that nobody else uses meanwhile.
class BoundaryFeatures::Lent {
  public:
    explicit Lent(BoundaryFeatures& of) : of_(of) {
        {
            const std::lock_guard lock(of.mutex_);
            if (!of.free_.empty()) {
                workspace_ = std::move(of.free_.back());
                of.free_.pop_back();
                return;
            }
        }
        workspace_.reset(new Workspace{.inference = Inference(of.frozen_, feature_batch),
                                       .pixels = std::vector<float>(static_cast<std::size_t>(
                                           feature_batch * of.images_.values_per_image())),
                                       .rows = {}});
    }
    ~Lent() {
        const std::lock_guard lock(of_.mutex_);
        of_.free_.push_back(std::move(workspace_));
    }
    Lent(const Lent&) = delete;
    Lent& operator=(const Lent&) = delete;

    Workspace& operator*() const { return *workspace_; }
    Workspace* operator->() const { return workspace_.get(); }

  private:
    BoundaryFeatures& of_;
    std::unique_ptr<Workspace> workspace_;
};

BoundaryFeatures::BoundaryFeatures(const PreparedImages& images, const Network& frozen,
                                   const Scaling& scaling, FeatureSettings settings)
    : images_(images),
      scaling_numbers_(scaling),
      scaling_(scaling, images.fitting().channels),
      settings_(std::move(settings)),
      boundary_(frozen.nodes.back().name),
      arithmetic_(fmt::format("arithmetic {}{}", arithmetic_version, uses_winograd(frozen) ? "" : " direct")),
      frozen_(frozen) {
    const Lent lent(*this);  // memory that does not suffice is found out now
    assert(lent->inference.input_size() == images.values_per_image());
    values_per_item_ = lent->inference.output_size();
}

void BoundaryFeatures::compute(std::int64_t count, std::span<const float> images, std::span<float> out) {
    const Lent lent(*this);
    compute_with(*lent, count, images, out);
}

void BoundaryFeatures::compute_with(Workspace& workspace, std::int64_t count, std::span<const float> images,
                                    std::span<float> out) {
    computed_ += count;
    const std::int64_t values = images_.values_per_image();
    for (std::int64_t begin = 0; begin < count; begin += feature_batch) {
        const std::int64_t some = std::min<std::int64_t>(feature_batch, count - begin);
        const auto features =
            workspace.inference.run(some, images.subspan(static_cast<std::size_t>(begin * values),
                                                         static_cast<std::size_t>(some * values)));
        std::copy(features.begin(), features.end(), out.begin() + begin * values_per_item());
    }
}

RowStore& BoundaryFeatures::store_of(const Augmentation& augmentation, std::uint32_t view) {
    const std::string words = view == 0 ? "" : fmt::format("{} {}", view, words_of(augmentation));
    const std::lock_guard lock(mutex_);
    auto& store = stores_[words];
    if (!store)
        store = std::make_unique<RowStore>(RowStoreSettings{
            .directory = settings_.directory,
            .kind = "features",
            .identity = fmt::format("{} {} {} {} {} {} {} {}", settings_.backbone, boundary_,
                                    images_.fitting().key(), scaling_numbers_.mean,
                                    scaling_numbers_.deviation, processor().name, arithmetic_, words),
            .row_bytes = values_per_item() * static_cast<std::int64_t>(sizeof(float)),
            .capacity = images_.count()});
    return *store;
}

std::vector<std::size_t> BoundaryFeatures::fill_known(const RowStore* store,
                                                      std::span<const std::int64_t> items,
                                                      std::span<float> out) const {
    const auto width = static_cast<std::size_t>(values_per_item());
    std::vector<std::size_t> missing;
    for (std::size_t n = 0; n < items.size(); ++n) {
        const auto row = std::as_writable_bytes(out.subspan(n * width, width));
        if (store == nullptr || !store->read(images_.content(items[n]), row)) missing.push_back(n);
    }
    return missing;
}

void BoundaryFeatures::fill_view(std::span<const std::int64_t> items, const Augmentation& augmentation,
                                 std::uint32_t view, std::span<float> out) {
    const auto width = static_cast<std::size_t>(values_per_item());
    RowStore* store = settings_.keep ? &store_of(augmentation, view) : nullptr;
    std::vector<std::size_t> missing = fill_known(store, items, out);
    if (missing.empty()) return;
    std::unique_lock<std::mutex> only(filling_, std::defer_lock);
    if (store != nullptr && !only.try_lock()) {
        {
            const WaitingLoops waiting;
            only.lock();
        }
        missing = fill_known(store, items, out);  // another thread has been at it
    }
    const Lent lent(*this);
    Workspace& workspace = *lent;
    for (std::size_t begin = 0; begin < missing.size(); begin += feature_batch) {
        const auto places =
            std::span(missing).subspan(begin, std::min<std::size_t>(feature_batch, missing.size() - begin));
        std::vector<std::int64_t> some;
        for (const std::size_t place : places) some.push_back(items[place]);
        images_.fill(some, scaling_, view == 0 ? Augmentation{} : augmentation, key_of_view(view),
                     workspace.pixels);
        workspace.rows.resize(some.size() * width);
        compute_with(workspace, std::ssize(some), workspace.pixels, workspace.rows);
        for (std::size_t i = 0; i < some.size(); ++i) {
            const auto row = std::span(workspace.rows).subspan(i * width, width);
            std::copy(row.begin(), row.end(), out.begin() + static_cast<std::ptrdiff_t>(places[i] * width));
            if (store != nullptr) store->put(images_.content(some[i]), std::as_bytes(row));
        }
    }
}

bool BoundaryFeatures::accepts() const {
    const std::lock_guard lock(mutex_);
    return std::all_of(stores_.begin(), stores_.end(),
                       [](const auto& store) { return store.second->accepts(); });
}

std::shared_ptr<BoundaryFeatures> FeaturePool::get(const PreparedImages& images, const Network& frozen,
                                                   const Scaling& scaling) {
    const std::lock_guard lock(mutex_);
    auto& features = features_[frozen.nodes.back().name + (uses_winograd(frozen) ? "" : " direct")];
    if (!features) features = std::make_shared<BoundaryFeatures>(images, frozen, scaling, settings_);
    return features;
}

std::int64_t FeaturePool::computed() const {
    const std::lock_guard lock(mutex_);
    std::int64_t sum = 0;
    for (const auto& [boundary, features] : features_) sum += features->computed();
    return sum;
}

bool FeaturePool::accepts() const {
    const std::lock_guard lock(mutex_);
    return std::all_of(features_.begin(), features_.end(),
                       [](const auto& features) { return features.second->accepts(); });
}

}  // namespace jevrin::inline v1
