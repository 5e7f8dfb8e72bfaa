#include "jevrin/training/training_settings.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

const EnumNames<ShardStatistics>& names_of(ShardStatistics) {
    static const EnumNames<ShardStatistics> names(
        "shard_statistics", {{ShardStatistics::shard, "shard"}, {ShardStatistics::batch, "batch"}});
    return names;
}

std::int64_t items_at_once(const TrainingSettings& settings, std::int64_t batch) {
    return settings.shard_statistics == ShardStatistics::batch
               ? batch
               : (batch + settings.shards - 1) / settings.shards;
}

RunLength run_length(const TrainingSettings& settings, std::int64_t training_items) {
    const auto rounded_up = [](std::int64_t a, std::int64_t b) { return (a + b - 1) / b; };
    RunLength length;
    const std::int64_t items = std::max<std::int64_t>(1, training_items);
    length.steps_per_epoch = rounded_up(items, std::min(settings.batch, items));
    length.steps = settings.steps > 0 ? settings.steps : settings.epochs * length.steps_per_epoch;
    length.steps_per_validation =
        settings.validate_every > 0 ? settings.validate_every : length.steps_per_epoch;
    length.validations = rounded_up(length.steps, length.steps_per_validation);
    return length;
}

}  // namespace jevrin::inline v1
