// Settings described once: reading with places, earlier keys, kinds, the complete and the canonical form.
#include "jevrin/base/description.hpp"

#include "support/support.hpp"

#include "jevrin/plan/toml.hpp"

#include <stdexcept>

namespace jevrin {

enum class Glaze { matt, glossy };
const EnumNames<Glaze>& names_of(Glaze) {
    static const EnumNames<Glaze> names("glaze", {{Glaze::matt, "matt"}, {Glaze::glossy, "glossy"}});
    return names;
}

struct Cooling {
    double hours = 8.0;
};
struct Firing {
    Glaze glaze = Glaze::matt;
    double peak = 1040.0;
    std::int64_t shine = 3;  // glossy only
    bool reduced = false;
    Cooling cooling = {};
};

const Description<Cooling>& description_of(const Cooling&) {
    static const Description<Cooling> description = [] {
        Description<Cooling> d;
        d.number("hours", &Cooling::hours, 1.0, 48.0).was("time");
        return d;
    }();
    return description;
}
const Description<Firing>& description_of(const Firing&) {
    static const Description<Firing> description = [] {
        Description<Firing> d;
        d.kind<Glaze>(
            "glaze", &Firing::glaze,
            [](Glaze glaze) {
                return glaze == Glaze::glossy ? Firing{.glaze = glaze, .peak = 1220.0}
                                              : Firing{.glaze = glaze};
            },
            [](const Firing& f) { return name_of(f.glaze); });
        d.number("peak", &Firing::peak, 600.0, 1400.0).unit("degrees").means("the highest temperature");
        d.integer("shine", &Firing::shine, 1, 9).only_for("glossy", [](const Firing& f) {
            return f.glaze == Glaze::glossy;
        });
        d.boolean("reduced", &Firing::reduced).if_stated();
        d.table("cooling", &Firing::cooling);
        d.check("peak", [](const TableReader&, const Firing& f) {
            if (f.reduced && f.peak < 900.0) throw InputError("reduction needs at least 900 degrees");
        });
        return d;
    }();
    return description;
}

namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

Firing firing(const std::string& toml, const Firing& otherwise = {}) {
    const SettingNode node = parse_toml(toml, "kiln.toml");
    return read_settings(TableReader(node, "kiln.toml", "[firing]"), otherwise);
}
std::string refusal(const std::string& toml) {
    return message_of<InputError>([&] { firing(toml); });
}

TEST(Described, WhatIsStatedReplacesWhatIsGiven) {
    const Firing plain = firing("peak = 1000\n[cooling]\nhours = 12");
    EXPECT_EQ(plain.peak, 1000.0);
    EXPECT_EQ(plain.cooling.hours, 12.0);
    EXPECT_EQ(firing("reduced = true", plain).peak, 1000.0);
    // Another kind starts again from what is usual for it; the same kind keeps what was said.
    EXPECT_EQ(firing("glaze = \"glossy\"", plain).peak, 1220.0);
    EXPECT_EQ(firing("glaze = \"matt\"", plain).peak, 1000.0);
}

TEST(Described, WhatIsWrongIsRefusedAtItsPlace) {
    EXPECT_THAT(
        refusal("reduced = false\npeak = 2000"),
        AllOf(HasSubstr("kiln.toml:2:8: "), HasSubstr("'peak' is 2000, outside the range 600 to 1400")));
    EXPECT_THAT(refusal("shine = 3"),
                AllOf(HasSubstr("kiln.toml:1:9"), HasSubstr("'shine' applies only to glossy, not to matt")));
    EXPECT_THAT(refusal("glaze = \"mat\""), HasSubstr("did you mean 'matt'?"));
    EXPECT_THAT(refusal("peek = 1000"),
                AllOf(HasSubstr("kiln.toml:1:1: [firing] has no key 'peek' (did you mean 'peak'?)"),
                      HasSubstr("glaze, peak, shine, reduced, cooling")));
    EXPECT_THAT(refusal("peak = 700\nreduced = true"), AllOf(HasSubstr("kiln.toml:1:8"), HasSubstr("900")));
    EXPECT_THAT(refusal("peak = \"hot\""), HasSubstr("must be a number, not a string"));
}

TEST(Described, AnEarlierKeyIsReadAndNeitherNamedNorWritten) {
    EXPECT_EQ(firing("[cooling]\ntime = 20").cooling.hours, 20.0);
    EXPECT_EQ(firing("[cooling]\ntime = 20\nhours = 30").cooling.hours, 30.0);
    EXPECT_EQ(json_text(complete_json(Cooling{20.0})), R"({"hours":20.0})");
    EXPECT_THAT(refusal("[cooling]\nhuors = 2"),
                AllOf(HasSubstr("its keys are hours"), Not(HasSubstr("time"))));
}

TEST(Described, TheCompleteFormHasEverythingThatApplies) {
    EXPECT_EQ(json_text(complete_json(Firing{})),
              R"({"glaze":"matt","peak":1040.0,"cooling":{"hours":8.0}})");
    EXPECT_EQ(json_text(complete_json(Firing{.glaze = Glaze::glossy, .reduced = true})),
              R"({"glaze":"glossy","peak":1040.0,"shine":3,"reduced":true,"cooling":{"hours":8.0}})");
}

TEST(Described, TheCanonicalFormHasOnlyWhatDiffersFromTheDefaults) {
    EXPECT_EQ(json_text(canonical_json(Firing{})), "{}");
    EXPECT_EQ(json_text(canonical_json(firing("glaze = \"glossy\""))), R"({"glaze":"glossy"})");
    EXPECT_EQ(json_text(canonical_json(firing("glaze = \"glossy\"\npeak = 1040\n[cooling]\nhours = 9"))),
              R"({"glaze":"glossy","peak":1040.0,"cooling":{"hours":9.0}})");
}

TEST(Described, JsonIsReadAsTomlIs) {
    const SettingNode node =
        node_of(parse_json(R"({"glaze": "glossy", "shine": 5, "cooling": {"hours": 2}})"));
    const Firing read = read_settings(TableReader(node, "a ledger", "a firing"), Firing{});
    EXPECT_EQ(read.shine, 5);
    EXPECT_EQ(read.cooling.hours, 2.0);
    const SettingNode wrong = node_of(parse_json(R"({"shine": null})"));
    EXPECT_THAT(
        message_of<InputError>([&] { read_settings(TableReader(wrong, "a ledger", "a firing"), Firing{}); }),
        HasSubstr("a ledger: "));
}

TEST(Enumerations, AValueThatNobodyKnowsIsNeverAQuietDefault) {
    EXPECT_EQ(name_of(Glaze::glossy), "glossy");
    EXPECT_EQ(value_named<Glaze>("matt"), Glaze::matt);
    EXPECT_THAT(message_of<InputError>([] { value_named<Glaze>("gloss"); }),
                HasSubstr("glaze is 'gloss' (did you mean 'glossy'?); it may be matt or glossy"));
    EXPECT_THROW(name_of(static_cast<Glaze>(7)), std::logic_error);
}

}  // namespace
}  // namespace jevrin
