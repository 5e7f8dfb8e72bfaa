// A network compiled for running: shapes inferred once, operators joined where one pass over memory can do
// the work of two, and every value and gradient given its place in one block of memory by its lifetime.
//
// In training, a value lives until its last use, forwards or backwards; a gradient from its first user's
// backward step to its own. Operators that work element by element write over their input where nothing needs
// it any more.
#pragma once

#include "jevrin/execution/operation.hpp"
#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <memory>
#include <vector>

namespace jevrin::inline v1 {

struct BufferLife;

enum class PassKind { inference, training };

class CompiledNetwork {
  public:
    // A step with the values it reads and writes. Value 0 is the input of the network.
    struct Instruction {
        std::size_t node = 0;       // whose parameters it uses
        std::size_t last_node = 0;  // whose value it makes: another one when nodes are joined
        std::vector<std::size_t> inputs;
        std::size_t output = 0;
        std::unique_ptr<Operation> operation;
        Operation::Traits traits;
        bool trains = false;  // something at or before it has parameters that train
    };

    CompiledNetwork(const Network& network, PassKind kind, KeptActivations kept = KeptActivations::float32);

    std::vector<Instruction>& instructions() { return instructions_; }
    const std::vector<Instruction>& instructions() const { return instructions_; }
    const PassMemory& memory() const { return memory_; }
    std::int64_t input_size() const { return sizes_.front(); }  // of one item
    std::int64_t output_size() const { return sizes_.back(); }
    std::int64_t size(std::size_t value) const { return sizes_[value]; }

    // Takes the memory for batches of up to so many items, after require_memory().
    void allocate(std::int64_t capacity);
    // The places of a value, which is not the input, and of its gradient; null when it has none.
    float* value(std::size_t index) const;
    float* gradient(std::size_t index) const;
    // A value that is kept in bfloat16: where it is kept, and where backward has it as float32. Null for
    // others.
    std::uint16_t* narrow(std::size_t index) const;
    float* widened(std::size_t index) const;

  private:
    struct Release {
        void operator()(float* memory) const;
    };
    // One buffer may hold several values after each other.
    struct Buffers {
        std::vector<std::size_t> of_value;
        std::vector<std::size_t> of_gradient;
        std::vector<std::size_t> of_narrow;
        std::vector<std::size_t> of_widened;
    };
    // The steps that use a value: 0 for none.
    struct Uses {
        std::int64_t last_forward = 0;
        std::int64_t first_backward = 0;
        std::int64_t last_backward = 0;
    };
    static constexpr std::size_t none = static_cast<std::size_t>(-1);

    void add_instructions(const Network& network, const std::vector<Shape>& shapes, PassKind kind);
    const BatchStatistics* measured_input(const Node& normalisation, std::size_t value, PassKind kind);
    void plan(const Network& network, PassKind kind, KeptActivations kept);
    std::vector<Uses> uses_of_values() const;
    void plan_values(PassKind kind, KeptActivations kept, std::vector<BufferLife>& lives);
    void plan_gradients(std::vector<BufferLife>& lives);
    std::int64_t forward_time(std::size_t instruction) const;
    std::int64_t backward_time(std::size_t instruction) const;
    float* place(std::size_t buffer) const;

    std::vector<Instruction> instructions_;
    std::vector<std::int64_t> sizes_;  // of each value, elements of one item
    Buffers buffers_;
    std::vector<std::int64_t> offsets_;  // of each buffer, elements of one item
    std::int64_t arena_size_ = 0;        // elements of one item
    PassMemory memory_;
    std::int64_t capacity_ = 0;
    std::unique_ptr<float[], Release> arena_;
};

}  // namespace jevrin::inline v1
