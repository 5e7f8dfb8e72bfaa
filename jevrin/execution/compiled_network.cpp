#include "jevrin/execution/compiled_network.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/execution/buffer_plan.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

constexpr std::int64_t float_bytes = sizeof(float);
// Buffers begin at whole lines of the cache for every batch size.
constexpr std::int64_t line_floats = 16;
// Leases of scratch that the thread which starts a loop may hold beside those of the loop's chunks.
constexpr int outer_leases = 3;

// The only user of each node's value, or 0 when there are more or none.
std::vector<std::size_t> only_users(const Network& network) {
    std::vector<std::size_t> users(network.nodes.size(), 0);
    std::vector<int> counts(network.nodes.size(), 0);
    for (std::size_t i = 0; i < network.nodes.size(); ++i)
        for (const std::size_t input : network.nodes[i].inputs) {
            users[input] = i;
            ++counts[input];
        }
    for (std::size_t i = 0; i < users.size(); ++i)
        if (counts[i] != 1) users[i] = 0;
    return users;
}

// The nodes behind a batch normalisation that its step computes as well.
struct Followers {
    AfterNormalisation after;
    std::size_t added = 0;           // the node whose value is added
    std::vector<std::size_t> nodes;  // in order
};

// A sum with a value for which computed(node) holds, and an activation, each the only user of what is before
// it.
template <typename Computed>
Followers followers_of(const Network& network, const std::vector<std::size_t>& users,
                       std::size_t normalisation, const Computed& computed) {
    Followers result;
    std::size_t next = users[normalisation];
    const auto* sum = std::get_if<Arithmetic>(&network.nodes[next].op);
    if (next != 0 && sum != nullptr && sum->kind == ArithmeticKind::add) {
        const std::vector<std::size_t>& terms = network.nodes[next].inputs;
        result.added = terms[terms[0] == normalisation ? 1 : 0];
        if (!computed(result.added)) return result;
        result.after = {.function = {sum->rectified ? FunctionKind::relu : FunctionKind::identity},
                        .adds = true};
        result.nodes.push_back(next);
        if (sum->rectified) return result;
        next = users[next];
    }
    const auto* activation = std::get_if<Activation>(&network.nodes[next].op);
    if (next == 0 || activation == nullptr) return result;
    AfterNormalisation with = result.after;
    with.function = activation->function;
    if (!can_follow_normalisation(with)) return result;
    result.after = with;
    result.nodes.push_back(next);
    return result;
}

bool has_trained_parameters(const Node& node) {
    if (node.frozen) return false;
    for (std::size_t p = 0; p < node.parameters.size(); ++p)
        if (parameter_kind(node.op, p) != ParameterKind::statistic) return true;
    return false;
}

}  // namespace

namespace {
std::int64_t free_memory() {
    return std::max<std::int64_t>(0, memory_limit() - resident_memory());
}
}  // namespace

std::int64_t fitting_batch(const PassMemory& memory) {
    return memory.per_item > 0 ? std::max<std::int64_t>(0, (free_memory() - memory.fixed) / memory.per_item)
                               : 0;
}

void require_memory(const PassMemory& memory, std::int64_t batch) {
    const std::int64_t free = free_memory();
    const std::int64_t needed = memory.total(batch);
    if (needed <= free) return;
    const std::int64_t fitting = fitting_batch(memory);
    throw InputError(
        fmt::format("the network needs {} of memory for a batch of {} and {} are left; {}",
                    spoken_bytes(needed), batch, spoken_bytes(free),
                    fitting > 0 ? fmt::format("a batch of {} would fit", fitting)
                                : "not even one image would fit: use smaller images or a narrower network"));
}

CompiledNetwork::CompiledNetwork(const Network& network, PassKind kind, KeptActivations kept) {
    const std::vector<Shape> shapes = infer_shapes(network);
    add_instructions(network, shapes, kind);
    plan(network, kind, kept);
}

void CompiledNetwork::add_instructions(const Network& network, const std::vector<Shape>& shapes,
                                       PassKind kind) {
    const std::vector<std::size_t> users = only_users(network);
    std::vector<std::size_t> value_of(network.nodes.size(), none);
    std::vector<bool> trains = {false};  // of each value
    value_of[0] = 0;
    sizes_.push_back(element_count(network.input));
    const AttentionPlaces attention = find_attention(network, shapes);
    auto next_attention = attention.places.begin();
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        if (value_of[i] != none) continue;  // joined with the node before it
        const bool attends = next_attention != attention.places.end() && next_attention->last == i;
        if (attention.absorbed[i] && !attends) continue;
        Instruction instruction{
            .node = attends ? next_attention->product : i, .last_node = i, .output = sizes_.size()};
        const Node& node = network.nodes[instruction.node];
        OperationShapes around{.output = shapes[i], .index = i};
        for (const std::size_t input : node.inputs) around.inputs.push_back(shapes[input]);
        std::vector<std::size_t> inputs = node.inputs;
        if (attends) {
            inputs = next_attention->sources;
            instruction.operation = make_attention(*next_attention++);
        } else if (std::holds_alternative<BatchNormalisation>(node.op)) {
            const auto computed = [&](std::size_t other) {
                return value_of[other] != none && shapes[other] == shapes[i];
            };
            const Followers followers = followers_of(network, users, i, computed);
            for (const std::size_t follower : followers.nodes) value_of[follower] = instruction.output;
            if (!followers.nodes.empty()) instruction.last_node = followers.nodes.back();
            if (followers.after.adds) inputs.push_back(followers.added);
            instruction.operation = make_normalisation(node, around, followers.after,
                                                       measured_input(node, value_of[inputs[0]], kind));
        } else {
            instruction.operation = make_operation(node, around);
        }
        for (const std::size_t input : inputs) {
            instruction.inputs.push_back(value_of[input]);
            instruction.trains = instruction.trains || trains[value_of[input]];
        }
        instruction.trains =
            kind == PassKind::training && (instruction.trains || has_trained_parameters(node));
        value_of[i] = instruction.output;
        instruction.traits = instruction.operation->traits();
        sizes_.push_back(element_count(shapes[i]));
        trains.push_back(instruction.trains);
        instructions_.push_back(std::move(instruction));
    }
    assert(value_of.back() + 1 == sizes_.size());
}

// Where the step that makes the input of a normalisation puts the statistics of a batch; null where nobody
// needs them or it cannot.
const BatchStatistics* CompiledNetwork::measured_input(const Node& normalisation, std::size_t value,
                                                       PassKind kind) {
    const bool takes = kind == PassKind::training && !normalisation.frozen &&
                       !std::get<BatchNormalisation>(normalisation.op).fixed;
    const auto maker =
        std::ranges::find_if(instructions_, [&](const Instruction& k) { return k.output == value; });
    return takes && maker != instructions_.end() ? maker->operation->measure_output() : nullptr;
}

std::int64_t CompiledNetwork::forward_time(std::size_t instruction) const {
    return static_cast<std::int64_t>(instruction) + 1;
}

// After all forward steps and the loss, in the opposite order.
std::int64_t CompiledNetwork::backward_time(std::size_t instruction) const {
    return static_cast<std::int64_t>(2 * instructions_.size() + 1 - instruction);
}

std::vector<CompiledNetwork::Uses> CompiledNetwork::uses_of_values() const {
    std::vector<Uses> uses(sizes_.size());
    const auto reads_backward = [&](std::size_t value, std::size_t k) {
        Uses& of = uses[value];
        const std::int64_t time = backward_time(k);
        of.first_backward = of.first_backward == 0 ? time : std::min(of.first_backward, time);
        of.last_backward = std::max(of.last_backward, time);
    };
    for (std::size_t k = 0; k < instructions_.size(); ++k) {
        const Instruction& instruction = instructions_[k];
        const Operation::Traits& traits = instruction.traits;
        uses[instruction.output].last_forward = forward_time(k);
        for (std::size_t i = 0; i < instruction.inputs.size(); ++i) {
            uses[instruction.inputs[i]].last_forward = forward_time(k);
            if (instruction.trains && i < traits.kept_inputs) reads_backward(instruction.inputs[i], k);
        }
        if (instruction.trains && traits.keeps_output) reads_backward(instruction.output, k);
    }
    return uses;
}

void CompiledNetwork::plan_values(PassKind kind, KeptActivations kept, std::vector<BufferLife>& lives) {
    const std::size_t count = sizes_.size();
    const std::vector<Uses> uses = uses_of_values();
    const auto is_narrow = [&](std::size_t value) {
        return kept == KeptActivations::bfloat16 && value != 0 && value + 1 != count &&
               uses[value].last_backward > 0;
    };
    const auto last_use = [&](std::size_t value) {
        if (value + 1 < count)
            return is_narrow(value) ? uses[value].last_forward
                                    : std::max(uses[value].last_forward, uses[value].last_backward);
        // The caller reads the output when everything is done.
        return kind == PassKind::training ? backward_time(0) + 1 : forward_time(instructions_.size() - 1) + 1;
    };
    buffers_.of_value.assign(count, none);
    buffers_.of_narrow.assign(count, none);
    buffers_.of_widened.assign(count, none);
    for (std::size_t k = 0; k < instructions_.size(); ++k) {
        const Instruction& instruction = instructions_[k];
        const std::size_t output = instruction.output;
        const std::size_t first = instruction.inputs.empty() ? 0 : instruction.inputs[0];
        if (is_narrow(output)) {
            buffers_.of_narrow[output] = lives.size();
            lives.push_back({divide_up(sizes_[output], 2), forward_time(k), uses[output].last_backward});
            buffers_.of_widened[output] = lives.size();
            lives.push_back({sizes_[output], uses[output].first_backward, uses[output].last_backward});
        }
        if (instruction.traits.in_place && first != 0 && last_use(first) == forward_time(k) &&
            sizes_[first] == sizes_[output]) {
            buffers_.of_value[output] = buffers_.of_value[first];
            lives[buffers_.of_value[output]].end = last_use(output);
            continue;
        }
        buffers_.of_value[output] = lives.size();
        lives.push_back({sizes_[output], forward_time(k), last_use(output)});
    }
}

void CompiledNetwork::plan_gradients(std::vector<BufferLife>& lives) {
    buffers_.of_gradient.assign(sizes_.size(), none);
    std::vector<std::size_t> maker(sizes_.size(), none);  // the instruction that makes a value
    for (std::size_t k = 0; k < instructions_.size(); ++k) maker[instructions_[k].output] = k;
    const auto wanted = [&](std::size_t value) {
        return maker[value] != none && instructions_[maker[value]].trains;
    };
    const auto begin_life = [&](std::size_t value, std::int64_t begin) {
        buffers_.of_gradient[value] = lives.size();
        lives.push_back({sizes_[value], begin, backward_time(maker[value])});
    };
    // The caller writes that of the output.
    if (wanted(sizes_.size() - 1)) begin_life(sizes_.size() - 1, forward_time(instructions_.size() - 1) + 1);
    for (std::size_t k = instructions_.size(); k-- > 0;) {
        const Instruction& instruction = instructions_[k];
        const std::size_t own = buffers_.of_gradient[instruction.output];
        if (!instruction.trains || own == none) continue;
        for (std::size_t i = instruction.inputs.size(); i-- > 0;) {
            const std::size_t input = instruction.inputs[i];
            if (!wanted(input) || buffers_.of_gradient[input] != none) continue;
            if (i == 0 && instruction.traits.gradient_in_place &&
                sizes_[input] == sizes_[instruction.output]) {
                buffers_.of_gradient[input] = own;
                lives[own].end = backward_time(maker[input]);
            } else {
                begin_life(input, backward_time(k));
            }
        }
    }
}

void CompiledNetwork::plan(const Network& network, PassKind kind, KeptActivations kept) {
    std::vector<BufferLife> lives;
    plan_values(kind, kept, lives);
    const std::size_t values = lives.size();
    if (kind == PassKind::training)
        plan_gradients(lives);
    else
        buffers_.of_gradient.assign(sizes_.size(), none);

    const std::int64_t end_of_forward = forward_time(instructions_.size() - 1) + 1;
    for (std::size_t b = 0; b < lives.size(); ++b) {
        if (b < values && lives[b].begin < end_of_forward && lives[b].end > end_of_forward)
            memory_.kept_per_item += lives[b].size * float_bytes;
        lives[b].size = round_up(lives[b].size, line_floats);
    }
    const BufferPlan buffers = plan_buffers(lives);
    offsets_ = buffers.offsets;
    arena_size_ = buffers.total;
    memory_.per_item = arena_size_ * float_bytes;

    std::int64_t scratch = 0;
    for (const Instruction& instruction : instructions_) {
        scratch = std::max(scratch, instruction.operation->scratch_size());
        if (kind != PassKind::training) continue;
        memory_.per_item += instruction.operation->kept_bytes();
        memory_.kept_per_item += instruction.operation->kept_bytes();
        if (network.nodes[instruction.node].frozen) continue;
        for (const Tensor& parameter : network.nodes[instruction.node].parameters)
            memory_.fixed += parameter.size() * float_bytes;
    }
    memory_.fixed += (threads() + outer_leases) * scratch * float_bytes;
}

void CompiledNetwork::allocate(std::int64_t capacity) {
    require_memory(memory_, capacity);
    capacity_ = capacity;
    arena_.reset(allocate_floats(arena_size_ * capacity));
    std::int64_t scratch = 0;
    for (Instruction& instruction : instructions_) {
        instruction.operation->prepare(capacity);
        scratch = std::max(scratch, instruction.operation->scratch_size());
    }
    reserve_scratch(scratch, static_cast<std::size_t>(threads()) + outer_leases);
}

float* CompiledNetwork::place(std::size_t buffer) const {
    return buffer == none ? nullptr : arena_.get() + offsets_[buffer] * capacity_;
}

float* CompiledNetwork::value(std::size_t index) const {
    return place(buffers_.of_value[index]);
}

float* CompiledNetwork::gradient(std::size_t index) const {
    return place(buffers_.of_gradient[index]);
}

std::uint16_t* CompiledNetwork::narrow(std::size_t index) const {
    return reinterpret_cast<std::uint16_t*>(place(buffers_.of_narrow[index]));
}

float* CompiledNetwork::widened(std::size_t index) const {
    return place(buffers_.of_widened[index]);
}

void CompiledNetwork::Release::operator()(float* memory) const {
    release_floats(memory);
}

}  // namespace jevrin::inline v1
