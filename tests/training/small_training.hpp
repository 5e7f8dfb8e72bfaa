// A small image set in memory, ready for training.
#pragma once

#include "support/support.hpp"

#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/training/run_trainer.hpp"

#include <memory>

namespace jevrin {

class SmallTraining : public testing::Test {
  protected:
    SmallTraining() {
        test::write_small_set(directory_.path(), {"across", "both", "down"}, 14);
        set_ = read_image_set({.from = directory_.path()});
        images_ = std::make_unique<PreparedImages>(set_, Fitting{.size = 16});
        data_.images = images_.get();
        data_.classes = 3;
        data_.parts = split_into_parts(set_, {.seed = 1});
        for (const Item& item : set_.items) data_.labels.push_back(item.label);
        scaling_ = images_->scaling_of(data_.parts.training);
    }

    test::TemporaryDirectory directory_;
    ImageSet set_;
    std::unique_ptr<PreparedImages> images_;
    TrainingData data_;
    Scaling scaling_;
};

// The numbers of all tensors, one after the other.
inline std::vector<float> flat(const std::vector<Tensor>& tensors) {
    std::vector<float> all;
    for (const Tensor& t : tensors) all.insert(all.end(), t.values().begin(), t.values().end());
    return all;
}

}  // namespace jevrin
