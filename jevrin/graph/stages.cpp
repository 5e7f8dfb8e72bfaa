#include "jevrin/graph/stages.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/dominators.hpp"
#include "jevrin/graph/operator_description.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// A module that holds this share of all weighted layers says nothing about them; its own modules do.
constexpr double share_of_everything = 0.8;
// With more stages than this, modules that differ in words behind an underscore are one stage.
constexpr std::size_t many_stages = 24;

using Modules = std::vector<std::string>;  // outermost first

// "a.b.c" as its parts.
Modules parts_of(std::string_view path, char separator) {
    Modules parts;
    for (std::size_t begin = 0; begin <= path.size();) {
        const std::size_t end = std::min(path.find(separator, begin), path.size());
        if (end > begin) parts.emplace_back(path.substr(begin, end - begin));
        begin = end + 1;
    }
    return parts;
}

std::string joined(const Modules& parts, std::size_t count) {
    return fmt::format("{}",
                       fmt::join(parts.begin(), parts.begin() + static_cast<std::ptrdiff_t>(count), "."));
}

// The module in which a node of this name stands; empty when the name does not say.
std::string module_of_name(const std::string& name) {
    const Modules parts = parts_of(module_path(name), '.');
    return parts.size() < 2 ? std::string() : joined(parts, parts.size() - 1);
}

std::string outer_module(const std::string& module) {
    const std::size_t end = module.rfind('.');
    return end == std::string::npos ? module : module.substr(0, end);
}

bool is_constant(const Node& node) {
    return std::holds_alternative<Constant>(node.op);
}

// Which nodes are constants, or made of constants alone.
std::vector<bool> constants_of(const Network& network) {
    const Dominators dominators(network);
    std::vector<bool> constants;
    for (std::size_t i = 0; i < network.nodes.size(); ++i)
        constants.push_back(!dominators.depends_on_image(i));
    return constants;
}

// A constant stands where the nodes that read it stand.
void place_constants(Network& network, const std::vector<bool>& constants) {
    for (std::size_t i = network.nodes.size(); i-- > 0;)
        for (const std::size_t input : network.nodes[i].inputs) {
            if (!constants[input]) continue;
            network.nodes[input].module = network.nodes[i].module;
            network.nodes[input].stage = network.nodes[i].stage;
        }
}

// The newest value of the image that a node reads; 0 when it reads none but the image itself.
std::size_t last_read(const std::vector<bool>& constants, const Node& node) {
    std::size_t last = 0;
    for (const std::size_t input : node.inputs)
        if (!constants[input]) last = std::max(last, input);
    return last;
}

// Nodes that nothing places stand in the module around what they read.
void inherit_modules(Network& network, const std::vector<bool>& constants) {
    std::vector<bool> stated;
    for (const Node& node : network.nodes) stated.push_back(!node.module.empty());
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        if (stated[i] || constants[i]) continue;
        const std::size_t last = last_read(constants, node);
        const std::string& before = network.nodes[last].module;
        node.module = stated[last] ? outer_module(before) : before;
    }
}

// Height and width of a map, the number of tokens of rows, 1 of a vector.
Shape resolution(const Shape& shape) {
    return {shape.begin(), shape.begin() + std::max<std::ptrdiff_t>(0, std::ssize(shape) - 1)};
}

// Modules "block1", "block2", ... from what the network does.
void place_by_structure(Network& network) {
    const std::vector<Shape> shapes = infer_shapes(network);
    const Dominators dominators(network);
    const std::vector<std::size_t> chain = dominators.chain(network.nodes.size() - 1);
    std::vector<bool> on_chain(network.nodes.size(), false);
    for (const std::size_t i : chain) on_chain[i] = true;
    // The nodes between two values that everything passes, by the first of the two.
    std::map<std::size_t, std::vector<std::size_t>> between;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        if (on_chain[i] || !dominators.depends_on_image(i)) continue;
        std::size_t before = i;
        while (!on_chain[before]) before = dominators.nearest(before);
        between[before].push_back(i);
    }
    int blocks = 0;
    bool has_weights = false;
    bool has_branches = false;
    Shape at = resolution(shapes[0]);
    for (std::size_t c = 1; c < chain.size(); ++c) {
        const std::vector<std::size_t>& inside = between[chain[c - 1]];
        const bool branches = !inside.empty();
        const bool weighted = describe(network.nodes[chain[c]].op).has_weight();
        const bool moves = resolution(shapes[chain[c]]) != at;
        if (blocks == 0 || (branches && has_branches) || (weighted && has_branches) ||
            (moves && has_weights)) {
            ++blocks;
            has_weights = has_branches = false;
        }
        has_branches = has_branches || branches;
        has_weights = has_weights || weighted || branches;
        at = resolution(shapes[chain[c]]);
        const std::string block = fmt::format("block{}", blocks);
        network.nodes[chain[c]].module = block;
        for (const std::size_t i : inside) network.nodes[i].module = block;
    }
}

// "conv2" of "conv2_block1_1_conv", "block_3" of "block_3_expand": words up to the first with a digit.
std::string first_words(const std::string& module) {
    const std::size_t begin = module.rfind('.') == std::string::npos ? 0 : module.rfind('.') + 1;
    for (std::size_t end = module.find('_', begin); end != std::string::npos; end = module.find('_', end + 1))
        if (std::any_of(module.begin() + static_cast<std::ptrdiff_t>(begin),
                        module.begin() + static_cast<std::ptrdiff_t>(end),
                        [](char c) { return c >= '0' && c <= '9'; }))
            return module.substr(0, end);
    return module;
}

// The beginnings of modules that hold so much that their own modules are the stages.
std::set<std::string> all_embracing(const Network& network) {
    std::map<std::string, int> held;
    int all = 0;
    for (const Node& node : network.nodes) {
        if (!describe(node.op).has_weight()) continue;
        ++all;
        const Modules parts = parts_of(node.module, '.');
        for (std::size_t depth = 1; depth < parts.size(); ++depth) ++held[joined(parts, depth)];
    }
    std::set<std::string> embracing;
    for (const auto& [module, count] : held)
        if (count >= share_of_everything * all) embracing.insert(module);
    return embracing;
}

void name_stages(Network& network, const std::vector<bool>& constants) {
    const std::set<std::string> embracing = all_embracing(network);
    std::set<std::string> stages;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        if (constants[i]) continue;
        const Modules parts = parts_of(node.module, '.');
        if (parts.empty()) continue;
        std::size_t depth = 1;
        while (depth < parts.size() && embracing.contains(joined(parts, depth))) ++depth;
        node.stage = joined(parts, depth);
        // Beside everything there is only what continues the stage before it.
        const std::string& before = network.nodes[last_read(constants, node)].stage;
        if (embracing.contains(node.stage) && !before.empty()) node.stage = before;
        stages.insert(node.stage);
    }
    if (stages.size() <= many_stages) return;
    for (Node& node : network.nodes) node.stage = first_words(node.stage);
}

}  // namespace

std::string module_path(std::string_view name) {
    Modules parts;
    for (const std::string& part : parts_of(name, '/')) {
        const bool repeats = !parts.empty() && (part == parts.back() || part.starts_with(parts.back() + "."));
        if (repeats)
            parts.back() = part;
        else
            parts.push_back(part);
    }
    return joined(parts, parts.size());
}

void find_stages(Network& network) {
    const std::vector<bool> constants = constants_of(network);
    int weighted = 0;
    int placed = 0;
    for (std::size_t i = 0; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        if (constants[i]) continue;
        if (node.module.empty()) node.module = module_of_name(node.name);
        weighted += describe(node.op).has_weight() ? 1 : 0;
        placed += describe(node.op).has_weight() && !node.module.empty() ? 1 : 0;
    }
    const bool named =
        weighted > 0
            ? 2 * placed >= weighted
            : std::ranges::any_of(network.nodes, [](const Node& node) { return !node.module.empty(); });
    if (named)
        inherit_modules(network, constants);
    else
        place_by_structure(network);
    name_stages(network, constants);
    place_constants(network, constants);
}

std::string stage_of(const Node& node) {
    if (!node.stage.empty()) return node.stage;
    const Modules parts = parts_of(module_path(node.name), '.');
    return parts.empty() ? node.name : parts.front();
}

std::vector<std::string> stage_names(const Network& network) {
    std::vector<std::string> names;
    for (const Node& node : network.nodes) {
        if (std::holds_alternative<Input>(node.op)) continue;
        const std::string stage = stage_of(node);
        if (std::find(names.begin(), names.end(), stage) == names.end()) names.push_back(stage);
    }
    return names;
}

namespace {

// Nodes of a module, or whose name goes on behind one of the separators.
std::vector<std::size_t> nodes_at(const Network& network, const std::string& path,
                                  std::string_view separators) {
    const auto stands_there = [&](std::string_view module) {
        return !path.empty() && module.starts_with(path) &&
               (module.size() == path.size() ||
                separators.find(module[path.size()]) != std::string_view::npos);
    };
    std::vector<std::size_t> found;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const Node& node = network.nodes[i];
        if (stands_there(node.module) || stands_there(stage_of(node)) || stands_there(module_path(node.name)))
            found.push_back(i);
    }
    return found;
}

}  // namespace

std::vector<std::size_t> nodes_of(const Network& network, const std::string& stage_or_node) {
    std::vector<std::string> paths = {module_path(stage_or_node)};
    for (const std::string& module : all_embracing(network)) paths.push_back(module + "." + paths.front());
    const auto has_weights = [&](std::size_t i) { return describe(network.nodes[i].op).has_weight(); };
    for (const std::string& path : paths) {
        auto found = nodes_at(network, path, ".:");
        if (std::ranges::none_of(found, has_weights)) found = nodes_at(network, path, ".:_");
        if (!found.empty()) return found;
    }
    return {};
}

namespace {

[[noreturn]] void throw_no_stage(const Network& network, const std::string& stage_or_node) {
    const std::vector<std::string> stages = stage_names(network);
    throw InputError(fmt::format("no stage or layer is called '{}'{}; the stages are {}",
                                 printable(stage_or_node), did_you_mean(stage_or_node, stages),
                                 fmt::join(stages, ", ")));
}

std::optional<std::size_t> find_named(const Network& network, const std::string& name) {
    for (std::size_t i = 1; i < network.nodes.size(); ++i)
        if (network.nodes[i].name == name && !is_constant(network.nodes[i])) return i;
    return std::nullopt;
}

}  // namespace

std::size_t find_boundary(const Network& network, const std::string& stage_or_node) {
    if (const auto named = find_named(network, stage_or_node)) return *named;
    if (const auto nodes = nodes_of(network, stage_or_node); !nodes.empty()) return nodes.front();
    throw_no_stage(network, stage_or_node);
}

std::size_t find_end(const Network& network, const std::string& stage_or_node) {
    if (const auto named = find_named(network, stage_or_node)) return *named;
    const std::vector<std::size_t> nodes = nodes_of(network, stage_or_node);
    for (auto node = nodes.rbegin(); node != nodes.rend(); ++node)
        if (!is_constant(network.nodes[*node])) return *node;
    throw_no_stage(network, stage_or_node);
}

}  // namespace jevrin::inline v1
