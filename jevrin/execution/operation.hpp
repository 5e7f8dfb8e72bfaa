// The computation of each operator of a network: prepared once for given shapes, then run for each batch.
#pragma once

#include "jevrin/execution/attention_places.hpp"
#include "jevrin/execution/pass.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/operator_table.hpp"

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// What one step reads and writes backwards. A null input gradient is not wanted.
struct BackwardArguments {
    std::vector<const float*> inputs;  // those that the step keeps
    const float* output = nullptr;     // likewise
    const float* output_gradient = nullptr;
    struct Target {
        float* gradient = nullptr;
        bool accumulate = false;  // another user of the value has already written there
    };
    std::vector<Target> input_gradients;                 // to be written from the last to the first
    std::vector<Tensor>* parameter_gradients = nullptr;  // one per parameter, replaced
};

// One pointer per input of the node, each to [batch, ...] values.
using StepInputs = std::span<const float* const>;

class Operation {
  public:
    // What the plan of buffers needs to know.
    struct Traits {
        std::size_t kept_inputs = 0;     // backward reads so many of the inputs, from the first on
        bool keeps_output = false;       // backward reads it
        bool in_place = false;           // the output may lie where the first input lies
        bool gradient_in_place = false;  // the gradient of the first input may lie where that of the output
                                         // lies, unless it accumulates
    };

    virtual ~Operation() = default;
    virtual Traits traits() const { return {}; }
    // Bytes that forward keeps for backward, for one item, beside inputs and output.
    virtual std::int64_t kept_bytes() const { return 0; }
    // The largest lease of scratch that the step takes, in floats.
    virtual std::int64_t scratch_size() const { return 0; }

    // Makes room for what is kept of so many items; called once, before the first forward().
    virtual void prepare(std::int64_t capacity) { static_cast<void>(capacity); }
    // From now on each step takes the statistics of its output's channels while it writes it; where it does
    // so, their place is returned, otherwise null.
    virtual const BatchStatistics* measure_output() { return nullptr; }
    // Inference, once: replaces the weights of the node by the form that the step reads, so that no call lays
    // them out. From then on, the step can only infer.
    virtual void lay_out_weights(Node& node) { static_cast<void>(node); }
    // Inference: fixed statistics, no dropout.
    virtual void infer(std::int64_t batch, const Node& node, StepInputs inputs, float* output) = 0;
    // Training: statistics of the batch, which also move the running ones in the node; keeps what backward
    // needs.
    virtual void forward(std::int64_t batch, Node& node, StepInputs inputs, const PassDraw& draw,
                         float* output) {
        static_cast<void>(draw);
        infer(batch, node, inputs, output);
    }
    // Whether it needs the passes over other shards (PassDraw::sums): then it runs for an empty shard, too.
    virtual bool meets_shards() const { return false; }
    // What the last forward() measured, which moves running statistics; empty where there are none.
    virtual std::span<const double> statistics() const { return {}; }
    virtual void move_statistics(Node& node, std::span<const double> newest) const {
        static_cast<void>(node);
        static_cast<void>(newest);
    }
    virtual void backward(std::int64_t batch, const Node& node, const BackwardArguments& arguments) = 0;
};

// What a node stands between.
struct OperationShapes {
    std::vector<Shape> inputs;  // of one item
    Shape output;
    std::size_t index = 0;  // of the node: names the draws of random operators
};

std::unique_ptr<Operation> make_operation(const Node& node, const OperationShapes& shapes);

// What a step of batch normalisation does in the same pass over memory: function(normalised + second input).
struct AfterNormalisation {
    Function function;
    bool adds = false;  // there is a second input
};
// Whether the gradient of all that can be computed.
bool can_follow_normalisation(const AfterNormalisation& after);
// measured: where the step that makes its input puts the statistics of a batch; null where it takes them
// itself.
std::unique_ptr<Operation> make_normalisation(const Node& node, const OperationShapes& shapes,
                                              const AfterNormalisation& after,
                                              const BatchStatistics* measured);

// Attention in one step, with the values of the place's sources as inputs.
std::unique_ptr<Operation> make_attention(const AttentionPlace& place);

// The step of one operator, specialised beside its arithmetic. It is reached through the table alone, into
// which each family puts its operators.
template <typename Op>
std::unique_ptr<Operation> operation_of(const Op& op, const Node& node, const OperationShapes& shapes);

using OperationTable = OperatorTable<std::unique_ptr<Operation> (*)(const Node&, const OperationShapes&)>;
void put_weighted_operations(OperationTable& table);
void put_normalising_operations(OperationTable& table);
void put_pointwise_operations(OperationTable& table);
void put_pooling_operations(OperationTable& table);
void put_moving_operations(OperationTable& table);

// For the file of a family, behind its specialisations.
template <typename... Ops>
void put_steps(OperationTable& table) {
    (table.put<Ops>([](const Node& node, const OperationShapes& shapes) {
        return operation_of(std::get<Ops>(node.op), node, shapes);
    }),
     ...);
}

}  // namespace jevrin::inline v1
