#include "jevrin/base/json.hpp"

#include <gmock/gmock.h>

#include <array>
#include <cmath>
#include <limits>
#include <map>

namespace jevrin {
namespace {

using testing::AllOf;
using testing::HasSubstr;
using testing::ThrowsMessage;

TEST(JsonValues, AreWrittenAsTheyStandInTheSource) {
    const Json json = {{"run", "new head/1"}, {"scores", {0.5, 1}}, {"one", {7}}, {"none", nullptr}};
    EXPECT_EQ(json_text(json), R"({"run":"new head/1","scores":[0.5,1],"one":[7],"none":null})");
    EXPECT_EQ(json_text(Json::array({{"a", 1}})), R"([["a",1]])");
    EXPECT_EQ(json_text(Json(std::vector<bool>{true, false})), "[true,false]");
    EXPECT_EQ(json_text(Json(std::map<std::string, int>{{"b", 2}, {"c", 3}})), R"({"b":2,"c":3})");
    EXPECT_EQ(json_text(Json(std::map<std::string, int>{})), "{}");
    EXPECT_EQ(json_text({{"a", Json::array()}, {"b", Json::object()}}, 2), "{\n  \"a\": [],\n  \"b\": {}\n}");
    EXPECT_EQ(json_text(std::nan("")), "null");
    EXPECT_EQ(json_text("\xff"), "\"\xef\xbf\xbd\"");
}

TEST(JsonValues, KeepTheOrderOfTheirKeys) {
    Json json;
    json["z"] = 1;
    json["a"]["inner"] = 2;
    json["z"] = 3;
    EXPECT_EQ(json_text(json), R"({"z":3,"a":{"inner":2}})");
    json.update({{"a", 4}, {"m", 5}});
    json.erase("z");
    EXPECT_EQ(json_text(json), R"({"a":4,"m":5})");
    EXPECT_FALSE(json.contains("z"));
    EXPECT_EQ(json.value("z", 9), 9);
}

TEST(JsonValues, AreReadBackToTheDigit) {
    const std::array<double, 3> numbers = {0.1, 1e-300, 12345678.9};
    const std::string text = R"({"numbers":[0.1,1e-300,12345678.9],"low":-9223372036854775808,)"
                             R"("high":18446744073709551615,"text":"a\u00e9\n","on":true})";
    const Json json = parse_json(text);
    EXPECT_EQ((json.at("numbers").get<std::array<double, 3>>()), numbers);
    EXPECT_EQ(json.at("low").get<std::int64_t>(), std::numeric_limits<std::int64_t>::min());
    EXPECT_EQ(json.at("high").get<double>(), std::pow(2.0, 64));
    EXPECT_EQ(json.at("text"), "a\xc3\xa9\n");
    EXPECT_TRUE(json.at("on").get<bool>());
    EXPECT_EQ(parse_json(json_text(json)), json);
    EXPECT_EQ(parse_json("[1, 1.0]")[0], parse_json("[1, 1.0]")[1]);
    EXPECT_EQ((parse_json(R"([{"a": 1}, {"b": 2}])").get<std::vector<std::map<std::string, int>>>()),
              (std::vector<std::map<std::string, int>>{{{"a", 1}}, {{"b", 2}}}));
}

TEST(JsonValues, OfTextThatIsNotJsonAreNull) {
    for (const char* text : {"", "{", "[1,]", "nan", "{\"a\" 1}", "\"\xff\""})
        EXPECT_TRUE(parse_json(text).is_null()) << text;
    const auto nested = [](std::size_t depth) {
        return parse_json(std::string(depth, '[') + std::string(depth, ']'));
    };
    EXPECT_FALSE(nested(1000).is_null());
    EXPECT_TRUE(nested(1001).is_null());
    EXPECT_TRUE(parse_json(std::string(10'000'000, '[')).is_null());
}

TEST(JsonValues, RefuseWhatTheyAreNot) {
    const Json json = {{"text", "seven"}, {"number", 300}, {"fraction", 1.5}, {"pair", {1, 2}}};
    const auto refusal = [](const char* words) { return ThrowsMessage<JsonError>(HasSubstr(words)); };
    EXPECT_THAT([&] { json.at("nothing"); }, refusal("no key 'nothing'"));
    EXPECT_THAT([&] { json.at("text").get<double>(); }, refusal("\"seven\" in place of a number"));
    EXPECT_THAT([&] { json.at("fraction").get<int>(); }, refusal("1.5 in place of an integer"));
    EXPECT_THAT([&] { json.at("number").get<std::uint8_t>(); }, refusal("within its range"));
    EXPECT_THAT([] { Json(-1).get<std::size_t>(); }, refusal("within its range"));
    EXPECT_THAT([&] { json.at("pair").at(2); }, refusal("too short"));
    EXPECT_THAT(([&] { json.at("pair").get<std::array<int, 3>>(); }), refusal("another length"));
    EXPECT_THAT([&] { Json("text").push_back(1); }, refusal("an array"));
    EXPECT_THAT([] { Json::array()["key"] = 1; }, refusal("an object"));
}

TEST(JsonFromOutside, IsReadStrictly) {
    EXPECT_EQ(read_json(R"({"a":[1,2.5,null]})", "x"), Json({{"a", Json::array({1, 2.5, nullptr})}}));
    const auto refused = [](const std::string& text, const std::string& why) {
        EXPECT_THAT([&] { read_json(text, "epochs.jsonl:3"); },
                    ThrowsMessage<InputError>(AllOf(HasSubstr("epochs.jsonl:3: "), HasSubstr(why))))
            << text.substr(0, 60);
    };
    refused("", "not JSON");
    refused("{\"a\":1", "not JSON: wrong at byte");
    refused("{\"a\":NaN}", "not JSON: wrong at byte 6");
    refused("[1] [2]", "not JSON");
    refused("1e999", "too large");
    refused(R"({"a":1,"b":2,"a":3})", "the key 'a' stands twice");
    refused(std::string(33, '[') + std::string(33, ']'), "nested more than 32 deep");
    EXPECT_NO_THROW(read_json(std::string(32, '[') + std::string(32, ']'), "x"));
    Json wide;
    for (int i = 0; i < 1001; ++i) wide["k" + std::to_string(i)] = i;
    refused(json_text(wide), "more than 1000 keys");
}

}  // namespace
}  // namespace jevrin
