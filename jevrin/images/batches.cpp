#include "jevrin/images/batches.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/images/image_store.hpp"

#include <algorithm>
#include <cassert>
#include <mutex>

namespace jevrin::inline v1 {
namespace {

// Bytes that each thread keeps for one image.
template <int purpose>
std::span<std::uint8_t> image_store_space(std::int64_t values) {
    thread_local std::vector<std::uint8_t> bytes;
    if (bytes.size() < static_cast<std::size_t>(values)) bytes.resize(static_cast<std::size_t>(values));
    return std::span(bytes).first(static_cast<std::size_t>(values));
}

// One item's bytes, augmented for an epoch, in `space`.
void augmented(const PreparedImages& images, const Augmentation& augmentation, const AugmentationKey& key,
               std::int64_t item, std::span<std::uint8_t> space) {
    images.read_pixels(static_cast<std::size_t>(item), space);
    const Fitting& fitting = images.fitting();
    augment({space.data(), fitting.size.width, fitting.size.height, fitting.channels}, augmentation, key,
            item);
}

void mix_in(const MixingDraw& draw, MixingForm form, const Fitting& fitting,
            std::span<const std::uint8_t> partner, std::span<std::uint8_t> pixels) {
    if (form == MixingForm::cutmix) {
        const std::int64_t row = fitting.size.width * fitting.channels;
        for (std::int64_t y = draw.top; y < draw.top + draw.height; ++y) {
            const auto first = static_cast<std::ptrdiff_t>(y * row + draw.left * fitting.channels);
            std::copy_n(partner.begin() + first, draw.width * fitting.channels, pixels.begin() + first);
        }
        return;
    }
    const auto share = static_cast<float>(draw.share);
    for (std::size_t i = 0; i < pixels.size(); ++i)
        pixels[i] = static_cast<std::uint8_t>(share * static_cast<float>(pixels[i]) +
                                              (1.0F - share) * static_cast<float>(partner[i]) + 0.5F);
}

}  // namespace

PreparedImages::PreparedImages(const ImageSet& set, const Fitting& fitting, ImageStore* store,
                               const ReadProgress& progress)
    : set_(set), fitting_(fitting), store_(store) {
    if (store_ == nullptr) return;
    std::mutex mutex;
    std::int64_t done = 0;
    const auto total = static_cast<std::int64_t>(set.items.size());
    parallel_for(total, [&](std::int64_t i) {
        read_pixels(static_cast<std::size_t>(i), image_store_space<1>(values_per_image()));
        const std::lock_guard lock(mutex);
        if (progress) progress(++done, total);
    });
}

std::int64_t PreparedImages::count() const {
    return static_cast<std::int64_t>(set_.items.size());
}

const ContentHash& PreparedImages::content(std::int64_t item) const {
    return set_.items[static_cast<std::size_t>(item)].content;
}

void PreparedImages::read_pixels(std::size_t item, std::span<std::uint8_t> pixels) const {
    const Item& wanted = set_.items[item];
    if (store_ != nullptr && store_->read(wanted.content, pixels)) return;
    const std::vector<std::uint8_t> fitted = load_fitted(set_, wanted, fitting_);
    std::copy(fitted.begin(), fitted.end(), pixels.begin());
    if (store_ != nullptr) store_->put(wanted.content, fitted);
}

Scaling PreparedImages::scaling_of(std::span<const std::size_t> items) const {
    ScalingSums sums(fitting_.channels);
    std::mutex mutex;
    constexpr std::int64_t block = 64;
    const auto total = static_cast<std::int64_t>(items.size());
    parallel_for((total + block - 1) / block, [&](std::int64_t chunk) {
        ScalingSums own(fitting_.channels);
        for (std::int64_t i = chunk * block; i < std::min(total, (chunk + 1) * block); ++i) {
            const auto pixels = image_store_space<1>(values_per_image());
            read_pixels(items[static_cast<std::size_t>(i)], pixels);
            own.add(pixels);
        }
        const std::lock_guard lock(mutex);
        sums.add(own);  // integers: the order does not matter
    });
    return sums.scaling();
}

void PreparedImages::fill(std::span<const std::int64_t> items, const ScalingTable& scaling,
                          const Augmentation& augmentation, const AugmentationKey& key,
                          std::span<float> out) const {
    const auto values = static_cast<std::size_t>(values_per_image());
    assert(out.size() >= items.size() * values);
    parallel_for(static_cast<std::int64_t>(items.size()), [&](std::int64_t n) {
        const std::int64_t item = items[static_cast<std::size_t>(n)];
        const auto space = image_store_space<1>(values_per_image());
        const auto row = out.subspan(static_cast<std::size_t>(n) * values, values);
        if (augmentation.changes_anything()) {
            augmented(*this, augmentation, key, item, space);
            scaling.apply(space, row);
        } else {
            read_pixels(static_cast<std::size_t>(item), space);
            scaling.apply(space, row);
        }
    });
}

std::vector<Target> targets_of(std::span<const std::int64_t> items, std::span<const std::size_t> labels,
                               std::span<const double> weights) {
    std::vector<Target> targets;
    for (const std::int64_t item : items) {
        const auto place = static_cast<std::size_t>(item);
        targets.push_back({.label = labels[place],
                           .other = labels[place],
                           .weight = weights.empty() ? 1.0 : weights[place]});
    }
    return targets;
}

struct BatchQueue::Work {
    const PreparedImages& images;
    const ScalingTable& scaling;
    BatchSettings settings;
    std::vector<std::int64_t> order;
    std::span<const std::size_t> labels;
    std::span<const double> weights;
    // One more than wait: the one in use.
    std::array<Batch, ahead + 1> slots;
    std::array<BackgroundTask, ahead + 1> tasks;
    std::int64_t begun = 0;
    std::int64_t taken = 0;

    std::int64_t batches() const {
        return (static_cast<std::int64_t>(order.size()) + settings.size - 1) / settings.size;
    }

    void begin_next() {
        const std::int64_t batch = begun++;
        const auto slot = static_cast<std::size_t>(batch % std::ssize(slots));
        tasks[slot].run([this, batch, slot] { prepare(batch, slots[slot]); });
    }

    void prepare(std::int64_t number, Batch& batch) const {
        const auto begin = number * settings.size;
        const auto end = std::min<std::int64_t>(std::ssize(order), begin + settings.size);
        const auto [first, last] =
            settings.part ? settings.part(end - begin) : std::pair(std::int64_t{0}, end - begin);
        batch.items.assign(order.begin() + begin + first, order.begin() + begin + last);
        batch.images.resize(batch.items.size() * static_cast<std::size_t>(images.values_per_image()));
        batch.targets = targets_of(batch.items, labels, weights);
        if (settings.augmentation.mixing.form == MixingForm::none)
            images.fill(batch.items, scaling, settings.augmentation, settings.key, batch.images);
        else
            fill_mixed(batch);
    }

    void fill_mixed(Batch& batch) const {
        const Augmentation& augmentation = settings.augmentation;
        const Fitting& fitting = images.fitting();
        const auto values = static_cast<std::size_t>(fitting.values());
        parallel_for(std::ssize(batch.items), [&](std::int64_t n) {
            const auto row = static_cast<std::size_t>(n);
            const std::int64_t item = batch.items[row];
            const MixingDraw draw =
                draw_mixing(augmentation.mixing, settings.key, item, order.size(), fitting.size);
            const std::int64_t partner = order[draw.partner];
            const auto pixels = image_store_space<1>(fitting.values());
            const auto other = image_store_space<2>(fitting.values());
            augmented(images, augmentation, settings.key, item, pixels);
            augmented(images, augmentation, settings.key, partner, other);
            mix_in(draw, augmentation.mixing.form, fitting, other, pixels);
            batch.targets[row].other = labels[static_cast<std::size_t>(partner)];
            batch.targets[row].share = draw.share;
            scaling.apply(pixels, std::span(batch.images).subspan(row * values, values));
        });
    }
};

BatchQueue::BatchQueue(const PreparedImages& images, const ScalingTable& scaling, BatchSettings settings,
                       std::vector<std::int64_t> order, std::span<const std::size_t> labels,
                       std::span<const double> weights)
    : work_(new Work{images, scaling, std::move(settings), std::move(order), labels, weights}) {
    const std::int64_t first = work_->begun = work_->taken = work_->settings.first;
    while (work_->begun < std::min(first + ahead, work_->batches())) work_->begin_next();
}

BatchQueue::~BatchQueue() = default;

const Batch* BatchQueue::next() {
    Work& work = *work_;
    if (work.taken >= work.batches()) return nullptr;
    const auto slot = static_cast<std::size_t>(work.taken++ % std::ssize(work.slots));
    if (work.begun < work.batches()) work.begin_next();
    work.tasks[slot].wait();
    return &work.slots[slot];
}

}  // namespace jevrin::inline v1
