#include "jevrin/images/descriptions.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <limits>

namespace jevrin::inline v1 {

Json size_json(const ImageSize& size) {
    if (size.is_square()) return size.height;
    return Json::array({size.height, size.width});
}

namespace {

void read_cutout(Overlay& overlay) {
    const std::vector<std::byte> bytes = read_file(overlay.file, largest_image_file);
    try {
        overlay.cutout = std::make_shared<const Cutout>(decode_cutout(bytes));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", printable(overlay.file.string()), error.what()));
    }
    overlay.content = content_hash(std::as_bytes(std::span(overlay.cutout->colours.pixels))) +
                      content_hash(std::as_bytes(std::span(overlay.cutout->alpha)));
}

constexpr std::int64_t largest_side = 1024;

Colour read_colour(TableReader& reader, const std::string& key) {
    const auto values = reader.integers(key, 0, 255);
    return reader.at(key, [&] {
        if (values.size() != 3)
            throw InputError(fmt::format("'{}' needs three numbers: red, green, blue", key));
        Colour colour{};
        for (std::size_t c = 0; c < 3; ++c) colour[c] = static_cast<std::uint8_t>(values[c]);
        return colour;
    });
}

template <typename S>
Setting<S>& colour(Description<S>& d, const std::string& key, Colour S::*member) {
    return d.custom(
        key, "[red, green, blue], integers from 0 to 255",
        [member](TableReader& reader, const std::string& k, S& s) { s.*member = read_colour(reader, k); },
        [member](const S& s) { return Json(s.*member); });
}

Setting<ImageSource>& path(Description<ImageSource>& d, const std::string& key,
                           std::filesystem::path ImageSource::*member) {
    return d.custom(
        key, "path",
        [member](TableReader& reader, const std::string& k, ImageSource& s) { s.*member = reader.path(k); },
        [member](const ImageSource& s) { return Json((s.*member).string()); });
}

Setting<ImageSource>& texts(Description<ImageSource>& d, const std::string& key,
                            std::vector<std::string> ImageSource::*member) {
    return d.custom(
        key, "list of strings",
        [member](TableReader& reader, const std::string& k, ImageSource& s) { s.*member = reader.texts(k); },
        [member](const ImageSource& s) { return Json(s.*member); });
}

Description<Overlay> describe_overlay() {
    Description<Overlay> d;
    d.custom(
         "file", "path",
         [](TableReader& reader, const std::string& k, Overlay& o) {
             o.file = reader.path(k);
             reader.at(k, [&] { read_cutout(o); });
         },
         [](const Overlay& o) { return Json(o.file.string()); })
        .means("a PNG or WebP with alpha")
        .written_if([](const Overlay&) { return false; });
    // What identifies an overlay in a ledger; a plan names its file.
    d.custom(
         "content", "hash",
         [](TableReader& reader, const std::string& k, Overlay& o) {
             reader.at(k, [&] {
                 if (reader.content().place) throw InputError("an overlay is named by its 'file'");
             });
             o.content = reader.text(k);
         },
         [](const Overlay& o) { return Json(o.content); })
        .means("hash of the file, written by the ledger in its place");
    d.number("probability", &Overlay::probability, 0.0, 1.0)
        .means("probability that an image gets it")
        .was("share");
    d.custom(
         "at", "list of [x, y], each from 0 to 1",
         [](TableReader& reader, const std::string& k, Overlay& o) {
             const std::vector<double> places = reader.flat_numbers(k, 0.0, 1.0);
             reader.at(k, [&] {
                 if (places.size() % 2 != 0)
                     throw InputError(
                         "'at' needs positions [x, y], as fractions of width and height: at = [[0.5, 0.5]]");
             });
             o.at.clear();
             for (std::size_t i = 0; i < places.size(); i += 2) o.at.push_back({places[i], places[i + 1]});
         },
         [](const Overlay& o) { return Json(o.at); })
        .means("possible centres, as fractions of width and height; empty: anywhere");
    d.range("size", &Overlay::size, 0.001, 4.0)
        .means("range of its longer side, as a fraction of the image's shorter side");
    d.range("opacity", &Overlay::opacity, 0.0, 1.0).means("range of its opacity");
    return d;
}

Description<Augmentation> describe_augmentation() {
    using A = Augmentation;
    Description<A> d;
    d.takes_text(augmentation_of_strength);
    d.custom(
         "strength", "one of none, light, medium, strong",
         [](TableReader& reader, const std::string& k, A& a) {
             const std::string strength = reader.text(k);
             a = reader.at(k, [&] { return augmentation_of_strength(strength); });
         },
         [](const A&) { return Json(); })
        .means("preset that the other keys override; short form: augment = \"light\"")
        .written_if([](const A&) { return false; });
    d.boolean("flip", &A::flip).means("random horizontal flip");
    d.boolean("flip_vertical", &A::flip_vertical).means("random vertical flip");
    d.number("shift", &A::shift, 0.0, 0.5).means("largest translation, as a fraction of the side");
    d.number("rotation", &A::rotation, 0.0, 180.0).means("largest rotation to either side").unit("degrees");
    d.number("scale", &A::scale, 0.0, 1.0).means("largest relative change of size");
    d.number("crop", &A::crop, 0.0, 0.95).means("random crop: largest fraction of the area that is cut off");
    d.number("brightness", &A::brightness, 0.0, 1.0)
        .means("largest change of brightness, as a fraction of white");
    d.number("contrast", &A::contrast, 0.0, 1.0).means("largest relative change of contrast");
    d.number("saturation", &A::saturation, 0.0, 1.0).means("largest relative change of saturation");
    d.number("hue", &A::hue, 0.0, 180.0).means("largest hue rotation to either side").unit("degrees");
    d.number("noise", &A::noise, 0.0, 1.0)
        .means("largest standard deviation of Gaussian noise, as a fraction of white");
    d.number("blur", &A::blur, 0.0, 20.0)
        .means("largest standard deviation of a Gaussian blur")
        .unit("pixels");
    d.number("erase", &A::erase, 0.0, 1.0)
        .means("random erasing: probability; the rectangle covers 2 to 20 % (Zhong et al. 2020)");
    d.table("mixing", &A::mixing).means("images and labels mixed in pairs");
    auto& overlays = d.custom(
        "overlay", "list of tables",
        [](TableReader& reader, const std::string& k, A& a) {
            a.overlays.clear();
            if (reader.holds_list(k) && reader.size_of_list(k) == 0) return reader.mention(k);
            for (TableReader& table : reader.tables(k)) a.overlays.push_back(read_settings(table, Overlay{}));
        },
        [](const A& a) {
            Json list = Json::array();
            for (const Overlay& overlay : a.overlays) list.push_back(complete_json(overlay));
            return list;
        });
    overlays.means("images pasted over training images");
    overlays.inner = [] { return description_of(Overlay{}).infos(); };
    return d;
}

Description<ImageSource> describe_source() {
    using S = ImageSource;
    Description<S> d;
    path(d, "from", &S::from)
        .required()
        .means(
            "a folder, a CSV index, an array file (IDX, NPY, also in gzip), or an archive of arrays (NPZ)");
    path(d, "labels", &S::labels).if_stated().means("arrays: file with the labels");
    path(d, "validation_from", &S::validation_from)
        .if_stated()
        .means("arrays: images of the validation part");
    path(d, "validation_labels", &S::validation_labels).if_stated().means("arrays: their labels");
    path(d, "test_from", &S::test_from).if_stated().means("arrays: images of the test part");
    path(d, "test_labels", &S::test_labels).if_stated().means("arrays: their labels");
    d.integers("shape", &S::shape, 1, 16'384)
        .if_stated()
        .means("arrays with flat rows: [height, width], or with channels");
    d.boolean("transposed", &S::transposed).if_stated().means("arrays: transpose each image");
    texts(d, "classes", &S::classes).if_stated().means("order of the classes; default: by name");
    d.custom(
         "columns", "table of strings",
         [](TableReader& reader, const std::string& k, S& s) {
             auto columns = reader.table(k);
             for (const char* meaning : {"path", "label", "part", "weight", "group"})
                 if (const std::string name = columns->text(meaning, ""); !name.empty())
                     s.columns[meaning] = name;
             columns->finish();
         },
         [](const S& s) { return Json(s.columns); })
        .if_stated()
        .means("CSV index: column names for path, label, part, weight, group");
    d.text("group_pattern", &S::group_pattern)
        .if_stated()
        .means(
            "regular expression (RE2) on the path; images with equal first capture group stay in one part");
    path(d, "corrections", &S::corrections).if_stated().means("CSV of label corrections: item, label, note");
    path(d, "unlabelled", &S::unlabelled).if_stated().means("folder of unlabelled images");
    return d;
}

Description<Fitting> describe_fitting() {
    Description<Fitting> d;
    d.custom(
         "size", "integer from 8 to 1024, or [height, width]",
         [](TableReader& reader, const std::string& k, Fitting& fitting) {
             if (!reader.holds_list(k)) {
                 fitting.size = reader.integer(k, std::nullopt, smallest_side, largest_side);
                 return;
             }
             const auto sides = reader.integers(k, smallest_side, largest_side);
             reader.at(k, [&] {
                 if (sides.size() != 2) throw InputError("'size' needs one number, or two: [height, width]");
             });
             fitting.size = {sides[0], sides[1]};
         },
         [](const Fitting& fitting) { return size_json(fitting.size); })
        .unit("pixels")
        .means("height and width of the network's input");
    d.word("fit", &Fitting::fit).means("how an image gets this shape");
    d.word("padding", &Fitting::padding).means("fill of `pad`");
    colour(d, "padding_colour", &Fitting::padding_colour).means("colour of constant padding");
    colour(d, "background", &Fitting::background).means("colour under transparent pixels");
    d.custom(
         "value_range", "[low, high], integers from 0 to 65535",
         [](TableReader& reader, const std::string& k, Fitting& fitting) {
             const auto ends = reader.integers(k, 0, 65'535);
             reader.at(k, [&] {
                 if (ends.size() != 2 || ends[0] >= ends[1])
                     throw InputError("'value_range' needs two numbers, the smaller first: [0, 4095]");
             });
             fitting.value_range = {static_cast<int>(ends[0]), static_cast<int>(ends[1])};
         },
         [](const Fitting& fitting) {
             return Json{fitting.value_range.low, fitting.value_range.high};
         })
        .means("16-bit grey: the values that become black and white");
    return d;
}

Description<Composition> describe_composition() {
    using C = Composition;
    constexpr std::int64_t largest_seed = std::numeric_limits<std::int32_t>::max();
    Description<C> d;
    d.integer("copies", &C::copies, 1, 10'000).means("number of augmented copies of each image");
    d.custom(
         "seed", detail::integer_words(0, largest_seed),
         [](TableReader& reader, const std::string& k, C& c) {
             c.seed = static_cast<std::uint64_t>(reader.integer(k, std::nullopt, 0, largest_seed));
         },
         [](const C& c) { return Json(c.seed); })
        .means("random seed");
    d.boolean("originals", &C::originals).means("also write the original images");
    d.custom(
         "format", "one of png, jpeg",
         [](TableReader& reader, const std::string& k, C& c) {
             const std::string format = reader.text(k);
             reader.at(k, [&] { c.jpeg = detail::find_name(k, {"png", "jpeg"}, format) == 1; });
         },
         [](const C& c) { return Json(c.jpeg ? "jpeg" : "png"); })
        .means("file format; JPEG with quality 95");
    d.table("augment", &C::augmentation).means("data augmentation");
    d.check("augment", [](const TableReader&, const C& c) {
        if (c.augmentation.mixing.form != MixingForm::none)
            throw InputError("'mixing' gives an image two labels, which an image set cannot hold; remove it");
    });
    return d;
}

}  // namespace

const Description<Composition>& description_of(const Composition&) {
    static const Description<Composition> description = describe_composition();
    return description;
}

const Description<Mixing>& description_of(const Mixing&) {
    static const Description<Mixing> description = [] {
        Description<Mixing> d;
        d.word("form", &Mixing::form).means("mixup (Zhang et al. 2018) or CutMix (Yun et al. 2019)");
        d.number("alpha", &Mixing::alpha, 0.01, 100.0)
            .means("the weight of the first image is drawn from Beta(alpha, alpha)");
        return d;
    }();
    return description;
}

const Description<Overlay>& description_of(const Overlay&) {
    static const Description<Overlay> description = describe_overlay();
    return description;
}

const Description<Augmentation>& description_of(const Augmentation&) {
    static const Description<Augmentation> description = describe_augmentation();
    return description;
}

const Description<ImageSource>& description_of(const ImageSource&) {
    static const Description<ImageSource> description = describe_source();
    return description;
}

const Description<Fitting>& description_of(const Fitting&) {
    static const Description<Fitting> description = describe_fitting();
    return description;
}

template class Description<Augmentation>;
template class Description<ImageSource>;
template class Description<Fitting>;
template class Description<Composition>;

}  // namespace jevrin::inline v1
