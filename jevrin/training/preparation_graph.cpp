#include "jevrin/training/preparation_graph.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// Element types, as the format numbers them.
constexpr std::int64_t int64_type = 7;

constexpr std::int64_t weight_one = 1 << 14;  // of the resizing filter (images/resize.cpp)

// Composes nodes; a value is called by its name. Everything is in integers: the same in every reader.
class Composer {
  public:
    explicit Composer(Surroundings& to) : to_(to) {}

    std::string integers(const std::vector<std::int64_t>& values, const Shape& shape) {
        const std::string name = next("constant");
        to_.constants.push_back({.name = name, .shape = shape, .integers = values});
        return name;
    }
    std::string integer(std::int64_t value) { return integers({value}, {}); }
    std::string list(const std::vector<std::int64_t>& values) {
        return integers(values, {std::ssize(values)});
    }
    std::string numbers(std::vector<float> values) {
        const std::string name = next("constant");
        const Shape shape = {std::ssize(values)};
        to_.constants.push_back({.name = name, .shape = shape, .numbers = std::move(values)});
        return name;
    }
    std::string add(const std::string& type, const std::vector<std::string>& inputs,
                    const std::map<std::string, std::int64_t>& attributes = {}) {
        to_.before.push_back({.type = type, .inputs = inputs, .output = next(type), .integers = attributes});
        return to_.before.back().output;
    }
    std::string transpose(const std::string& value, const std::vector<std::int64_t>& order) {
        const std::string name = add("Transpose", {value});
        to_.before.back().lists["perm"] = order;
        return name;
    }
    std::string plus(const std::string& a, const std::string& b) { return add("Add", {a, b}); }
    std::string minus(const std::string& a, const std::string& b) { return add("Sub", {a, b}); }
    std::string times(const std::string& a, const std::string& b) { return add("Mul", {a, b}); }
    // Of positive integers.
    std::string over(const std::string& a, const std::string& b) { return add("Div", {a, b}); }
    std::string range(const std::string& end) { return add("Range", {integer(0), end, integer(1)}); }
    std::string row_of(const std::string& values) { return add("Unsqueeze", {values, list({0})}); }
    std::string column_of(const std::string& values) { return add("Unsqueeze", {values, list({1})}); }
    std::string vector_of(const std::string& scalar) { return add("Unsqueeze", {scalar, list({0})}); }

  private:
    std::string next(const std::string& what) { return fmt::format("preparation:{}:{}", ++count_, what); }

    Surroundings& to_;
    int count_ = 0;
};

struct Sides {
    std::string height;
    std::string width;
};

// length * to / reference, rounded, at least 1.
std::string scaled(Composer& c, const std::string& length, std::int64_t to, const std::string& reference) {
    const std::string twice = c.times(c.times(length, c.integer(2)), c.integer(to));
    return c.add("Max", {c.integer(1), c.over(c.plus(twice, reference), c.times(reference, c.integer(2)))});
}

// What an image is resized to before it is cut or filled up.
Sides resized(Composer& c, const Sides& from, const Fitting& fitting) {
    const std::string height = c.integer(fitting.size.height);
    const std::string width = c.integer(fitting.size.width);
    if (fitting.fit == Fit::stretch) return {height, width};
    const std::string wider =
        c.add("GreaterOrEqual", {c.times(from.width, height), c.times(from.height, width)});
    const std::string by_width = fitting.fit == Fit::pad ? wider : c.add("Not", {wider});
    return {c.add("Where", {by_width, scaled(c, from.height, fitting.size.width, from.width), height}),
            c.add("Where", {by_width, width, scaled(c, from.width, fitting.size.height, from.height)})};
}

// The weights [out, in] of the triangle filter, which sum to weight_one in each row.
std::string filter(Composer& c, const std::string& in, const std::string& out) {
    const std::string unit = c.times(out, c.integer(2));
    const std::string reach = c.add("Max", {unit, c.times(in, c.integer(2))});
    const std::string outputs = c.column_of(c.range(out));
    const std::string centres = c.times(c.plus(c.times(outputs, c.integer(2)), c.integer(1)), in);
    const std::string inputs = c.plus(c.times(c.row_of(c.range(in)), unit), out);
    const std::string raw =
        c.add("Max", {c.integer(0), c.minus(reach, c.add("Abs", {c.minus(inputs, centres)}))});
    const std::string total = c.add("ReduceSum", {raw, c.list({1})});
    const std::string seen = c.add("CumSum", {raw, c.integer(1)});
    const std::string due =
        c.over(c.plus(c.times(seen, c.integer(2 * weight_one)), total), c.times(total, c.integer(2)));
    // Less what the places before have been given.
    const std::string before = c.add("Slice", {due, c.list({0}), c.list({-1}), c.list({1})});
    return c.minus(due, c.add("Concat", {c.times(total, c.integer(0)), before}, {{"axis", 1}}));
}

// Images [batch, height, width, 3] of `from` as [batch, 3, height, width] of `to`.
std::string resize_to(Composer& c, const std::string& images, const std::string& batch, const Sides& from,
                      const Sides& to) {
    const auto shape = [&](const std::vector<std::string>& sizes) {
        std::vector<std::string> one_each;
        for (const std::string& size : sizes) one_each.push_back(c.vector_of(size));
        return c.add("Concat", one_each, {{"axis", 0}});
    };
    const std::string colours = c.integer(3);
    const std::string rest = c.integer(-1);
    const std::string by_rows =
        c.add("Reshape", {c.transpose(images, {1, 2, 0, 3}), shape({from.height, rest})});
    const std::string rows = c.add("MatMul", {filter(c, from.height, to.height), by_rows});
    const std::string split = c.add("Reshape", {rows, shape({to.height, from.width, batch, colours})});
    const std::string by_columns =
        c.add("Reshape", {c.transpose(split, {1, 0, 2, 3}), shape({from.width, rest})});
    const std::string sums = c.add("MatMul", {filter(c, from.width, to.width), by_columns});
    constexpr std::int64_t one = weight_one * weight_one;
    const std::string values = c.over(c.plus(sums, c.integer(one / 2)), c.integer(one));
    return c.transpose(c.add("Reshape", {values, shape({to.width, to.height, batch, colours})}),
                       {2, 3, 1, 0});
}

// The middle along an axis: which places of the image it takes, and which of them the image has.
struct Middle {
    std::string places;  // [to]
    std::string inside;  // [to], truths
};

Middle middle(Composer& c, const std::string& from, std::int64_t to, bool is_cut) {
    const std::string wanted = c.integer(to);
    const std::string all = c.range(wanted);
    const std::string places = is_cut ? c.plus(all, c.over(c.minus(from, wanted), c.integer(2)))
                                      : c.minus(all, c.over(c.minus(wanted, from), c.integer(2)));
    const std::string last = c.minus(from, c.integer(1));
    const std::string clamped = c.add("Min", {c.add("Max", {places, c.integer(0)}), last});
    return {clamped, c.add("Equal", {places, clamped})};
}

std::string centred(Composer& c, const std::string& images, const Sides& sides, const Fitting& fitting) {
    const bool is_cut = fitting.fit == Fit::crop;
    const Middle rows = middle(c, sides.height, fitting.size.height, is_cut);
    const Middle columns = middle(c, sides.width, fitting.size.width, is_cut);
    const std::string taken = c.add(
        "Gather", {c.add("Gather", {images, rows.places}, {{"axis", 2}}), columns.places}, {{"axis", 3}});
    if (is_cut || fitting.padding == FitPadding::edge) return taken;
    const std::string inside = c.add("And", {c.column_of(rows.inside), c.row_of(columns.inside)});
    std::string filling;
    if (fitting.padding == FitPadding::constant) {
        filling = c.integers({fitting.padding_colour.begin(), fitting.padding_colour.end()}, {1, 3, 1, 1});
    } else {
        const std::string count = c.times(sides.height, sides.width);
        const std::string sum = c.add("ReduceSum", {images, c.list({2, 3})});
        filling = c.over(c.plus(sum, c.over(count, c.integer(2))), count);
    }
    return c.add("Where", {inside, taken, filling});
}

}  // namespace

Surroundings preparation_graph(const Preparation& preparation, double temperature, const std::string& input,
                               const std::string& output) {
    const Fitting& fitting = preparation.fitting;
    Surroundings result{
        .bytes = "pixels", .before = {}, .after = {}, .constants = {}, .output = "probabilities"};
    Composer c(result);
    const std::string shape = c.add("Shape", {result.bytes});
    const auto size = [&](std::int64_t axis) {
        return c.add("Gather", {shape, c.integer(axis)}, {{"axis", 0}});
    };
    const std::string batch = size(0);
    const Sides from = {size(1), size(2)};
    const Sides to = resized(c, from, fitting);
    const std::string pixels = c.add("Cast", {result.bytes}, {{"to", int64_type}});
    std::string images = resize_to(c, pixels, batch, from, to);
    if (fitting.fit != Fit::stretch) images = centred(c, images, to, fitting);
    if (fitting.channels == 1) {  // 0.299 red + 0.587 green + 0.114 blue (BT.601)
        const std::string weighted = c.times(images, c.integers({299, 587, 114}, {1, 3, 1, 1}));
        images = c.over(c.plus(c.add("ReduceSum", {weighted, c.list({1})}), c.integer(500)), c.integer(1000));
    }
    // A table of 256 numbers for each channel.
    const ScalingTable table(preparation.scaling, fitting.channels);
    std::vector<float> numbers;
    std::vector<std::int64_t> begin;
    for (std::int64_t channel = 0; channel < fitting.channels; ++channel) {
        begin.push_back(256 * channel);
        for (int value = 0; value < 256; ++value) {
            const std::vector<std::uint8_t> pixel(static_cast<std::size_t>(fitting.channels),
                                                  static_cast<std::uint8_t>(value));
            std::vector<float> scaled_pixel(pixel.size());
            table.apply(pixel, scaled_pixel);
            numbers.push_back(scaled_pixel[static_cast<std::size_t>(channel)]);
        }
    }
    const std::string places = c.plus(images, c.integers(begin, {1, fitting.channels, 1, 1}));
    c.add("Gather", {c.numbers(numbers), places}, {{"axis", 0}});
    result.before.back().output = input;

    std::string logits = output;
    if (temperature != 1.0) {
        const std::string divisor = c.numbers({static_cast<float>(temperature)});
        result.after.push_back(
            {.type = "Div", .inputs = {logits, divisor}, .output = "probabilities:logits"});
        logits = "probabilities:logits";
    }
    result.after.push_back(
        {.type = "Softmax", .inputs = {logits}, .output = result.output, .integers = {{"axis", -1}}});
    return result;
}

}  // namespace jevrin::inline v1
