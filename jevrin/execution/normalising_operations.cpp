// Operations that normalise: batch, layer and group normalisation, softmax.
#include "jevrin/execution/operation.hpp"
#include "jevrin/tensor/group_normalisation.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/softmax.hpp"

namespace jevrin::inline v1 {

using namespace operators;

namespace {

class BatchNormalisationOperation : public Operation {
  public:
    BatchNormalisationOperation(const NormalisationShape& shape, const BatchNormalisation& op,
                                const AfterNormalisation& after, const BatchStatistics* measured)
        : shape_(shape),
          momentum_(static_cast<double>(op.momentum)),
          fixed_(op.fixed),
          after_(after),
          measured_(measured) {}
    Traits traits() const override {
        // Where something was added, the slope of the function is computed from the output.
        return {.kept_inputs = 1, .keeps_output = sloped_by_output(), .gradient_in_place = true};
    }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        const auto mean = node.parameters[2].values();
        const auto variance = node.parameters[3].values();
        statistics_.mean.assign(mean.begin(), mean.end());
        statistics_.variance.assign(variance.begin(), variance.end());
        apply(batch, node, inputs, output);
    }
    void forward(std::int64_t batch, Node& node, StepInputs inputs, const PassDraw& draw,
                 float* output) override {
        if (fixed_) {
            infer(batch, node, inputs, output);
            return;
        }
        if (measured_ != nullptr && batch > 0)
            statistics_ = *measured_;
        else
            measure_statistics(shape_, batch, inputs[0], statistics_);
        sums_ = draw.sums;
        rows_ = static_cast<double>(batch * shape_.pixels);
        if (sums_ != nullptr) rows_ = sums_->combine(statistics_, rows_);
        apply(batch, node, inputs, output);
        // Running statistics take the unbiased variance, as inference sees the population, not the batch.
        const double correction = rows_ > 1 ? rows_ / (rows_ - 1) : 1.0;
        newest_ = statistics_.mean;
        for (const double variance : statistics_.variance) newest_.push_back(variance * correction);
        if (!draw.is_shard) move_statistics(node, newest_);
    }
    bool meets_shards() const override { return !fixed_; }
    std::span<const double> statistics() const override { return newest_; }
    void move_statistics(Node& node, std::span<const double> newest) const override {
        const std::size_t channels = newest.size() / 2;
        for (std::size_t i = 0; i < newest.size(); ++i) {
            float& running = node.parameters[i < channels ? 2 : 3].data()[i % channels];
            running =
                static_cast<float>((1.0 - momentum_) * static_cast<double>(running) + momentum_ * newest[i]);
        }
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        const BackwardArguments::Target added =
            after_.adds ? a.input_gradients[1] : BackwardArguments::Target{};
        normalise_backward(shape_, batch, a.inputs[0], statistics_,
                           fixed_ ? StatisticsKind::stored : StatisticsKind::of_batch,
                           node.parameters[0].data(), node.parameters[1].data(), after_.function,
                           sloped_by_output() ? a.output : nullptr, a.output_gradient,
                           {target.gradient, target.accumulate, (*a.parameter_gradients)[0].data(),
                            (*a.parameter_gradients)[1].data(), added.gradient, added.accumulate},
                           fixed_ || sums_ == nullptr ? nullptr : &shared_);
    }

  private:
    void apply(std::int64_t batch, const Node& node, StepInputs inputs, float* output) const {
        normalise(shape_, batch, inputs[0], statistics_, node.parameters[0].data(), node.parameters[1].data(),
                  after_.adds ? inputs[1] : nullptr, after_.function, output);
    }
    bool sloped_by_output() const { return after_.adds && after_.function.kind != FunctionKind::identity; }

    NormalisationShape shape_;
    double momentum_;
    bool fixed_;
    AfterNormalisation after_;
    const BatchStatistics* measured_;
    BatchStatistics statistics_;
    std::vector<double> newest_;  // mean, and unbiased variance
    ShardSums* sums_ = nullptr;   // of the last forward()
    double rows_ = 0.0;           // that its statistics are of
    const SharedNormalisation shared_{rows_, [this](std::span<double> sums) { sums_->add(sums); }};
};

// Layer normalisation is the case of one pixel and one group, over rows of each item.
class GroupNormalisationOperation : public Operation {
  public:
    GroupNormalisationOperation(const GroupNormalisationShape& shape, std::int64_t rows)
        : shape_(shape), rows_(rows) {}
    Traits traits() const override { return {.kept_inputs = 1, .gradient_in_place = true}; }
    std::int64_t kept_bytes() const override {
        return rows_ * shape_.groups * 2 * static_cast<std::int64_t>(sizeof(float));
    }
    void prepare(std::int64_t capacity) override {
        statistics_ = Tensor({capacity, rows_, shape_.groups, 2});
    }
    void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) override {
        normalise_groups(shape_, batch * rows_, inputs[0], node.parameters[0].data(),
                         node.parameters[1].data(), output, nullptr);
    }
    void forward(std::int64_t batch, Node& node, StepInputs inputs, const PassDraw&, float* output) override {
        normalise_groups(shape_, batch * rows_, inputs[0], node.parameters[0].data(),
                         node.parameters[1].data(), output, statistics_.data());
    }
    void backward(std::int64_t batch, const Node& node, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        normalise_groups_backward(shape_, batch * rows_, a.inputs[0], statistics_.data(),
                                  node.parameters[0].data(), a.output_gradient,
                                  {target.gradient, target.accumulate, (*a.parameter_gradients)[0].data(),
                                   (*a.parameter_gradients)[1].data()});
    }

  private:
    GroupNormalisationShape shape_;
    std::int64_t rows_;  // of one item
    Tensor statistics_;
};

class SoftmaxOperation : public Operation {
  public:
    SoftmaxOperation(const SoftmaxShape& shape, bool logarithm) : shape_(shape), logarithm_(logarithm) {}
    Traits traits() const override {
        return {.keeps_output = true, .in_place = true, .gradient_in_place = true};
    }
    void infer(std::int64_t batch, const Node&, StepInputs inputs, float* output) override {
        (logarithm_ ? log_softmax : softmax)(of_batch(batch), inputs[0], output);
    }
    void backward(std::int64_t batch, const Node&, const BackwardArguments& a) override {
        const auto& target = a.input_gradients[0];
        if (target.gradient != nullptr)
            (logarithm_ ? log_softmax_backward : softmax_backward)(
                of_batch(batch), a.output, a.output_gradient, target.accumulate, target.gradient);
    }

  private:
    SoftmaxShape of_batch(std::int64_t batch) const {
        return {batch * shape_.outer, shape_.length, shape_.inner};
    }

    SoftmaxShape shape_;
    bool logarithm_;
};

}  // namespace

bool can_follow_normalisation(const AfterNormalisation& after) {
    return !after.adds || !slope_needs_input(after.function);
}

std::unique_ptr<Operation> make_normalisation(const Node& node, const OperationShapes& shapes,
                                              const AfterNormalisation& after,
                                              const BatchStatistics* measured) {
    const auto& op = std::get<BatchNormalisation>(node.op);
    const std::int64_t channels = shapes.output.back();
    return std::make_unique<BatchNormalisationOperation>(
        NormalisationShape{element_count(shapes.output) / channels, channels, op.epsilon}, op, after,
        measured);
}

template <>
std::unique_ptr<Operation> operation_of(const BatchNormalisation&, const Node& node,
                                        const OperationShapes& shapes) {
    return make_normalisation(node, shapes, {}, nullptr);
}
template <>
std::unique_ptr<Operation> operation_of(const LayerNormalisation& op, const Node& node,
                                        const OperationShapes& shapes) {
    const std::int64_t width = node.parameters[0].size();
    return std::make_unique<GroupNormalisationOperation>(
        GroupNormalisationShape{.channels = width, .epsilon = op.epsilon},
        element_count(shapes.output) / width);
}
template <>
std::unique_ptr<Operation> operation_of(const GroupNormalisation& op, const Node&,
                                        const OperationShapes& shapes) {
    const std::int64_t channels = shapes.output.back();
    return std::make_unique<GroupNormalisationOperation>(
        GroupNormalisationShape{element_count(shapes.output) / channels, channels, op.groups, op.epsilon}, 1);
}
template <>
std::unique_ptr<Operation> operation_of(const Softmax& op, const Node&, const OperationShapes& shapes) {
    SoftmaxShape shape;
    for (std::size_t d = 0; d < shapes.output.size(); ++d) {
        const auto axis = static_cast<std::size_t>(op.axis);
        (d < axis ? shape.outer : d == axis ? shape.length : shape.inner) *= shapes.output[d];
    }
    return std::make_unique<SoftmaxOperation>(shape, op.logarithm);
}

void put_normalising_operations(OperationTable& table) {
    put_steps<BatchNormalisation, LayerNormalisation, GroupNormalisation, Softmax>(table);
}

}  // namespace jevrin::inline v1
