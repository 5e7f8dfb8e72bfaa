// Monitors the epochs of a run and warns of problems.
//
// Each warning is given once per run, at the first epoch at which it holds:
//
// - exploding gradients: from epoch 2 on a step changes a layer by more than 0.3 of its weights' norm
// - vanishing gradients: steps change a layer by less than 1e-5 of what they change the liveliest one by
// - dead units: 9 of 10 units of a relu are never above 0 in the steps that were looked at
// - nothing learned: from epoch 3 on, training accuracy is not 0.02 above the largest class, and the loss not
//   2 % below that of epoch 1
// - overfitting: something was learned, but validation loss is above twice the training loss and 0.1, was
//   lowest three or more epochs ago, and has risen by a fifth since
#pragma once

#include "jevrin/ledger/records.hpp"
#include "jevrin/training/layer_summary.hpp"

#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class RunWatch {
  public:
    // The fraction of the largest class in the training part, as training sees it.
    explicit RunWatch(double majority_share) : majority_share_(majority_share) {}

    // What there is to say about the next epoch.
    std::vector<std::string> observe(const EpochRecord& epoch, const std::vector<LayerSummary>& layers);

  private:
    double majority_share_;
    double first_loss_ = 0.0;
    double lowest_validation_ = 0.0;
    std::int64_t lowest_epoch_ = 0;
    std::set<std::string> said_;
};

}  // namespace jevrin::inline v1
