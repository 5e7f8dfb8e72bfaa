// Settings described once: the key of each, its type, range and meaning, when it applies, and what it was
// called before. From one description come reading (with the place of whatever is wrong), the complete JSON
// form, the canonical form that identifies a run, and the tables of docs/formats.md. A default is the
// initialiser of its member and stands nowhere else.
//
//     const Description<LossSettings>& description_of(const LossSettings&) {
//         static const Description<LossSettings> description = [] {
//             Description<LossSettings> d;
//             d.number("label_smoothing", &LossSettings::label_smoothing, 0.0, 0.99).means("...");
//             return d;
//         }();
//         return description;
//     }
//     LossSettings loss = read_settings(reader, LossSettings{});
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/table_reader.hpp"

#include <array>
#include <cstdint>
#include <deque>
#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// What documents say of one setting.
struct SettingInfo {
    std::string key;
    std::string type;  // "number from 0 to 1", "one of natural, balanced"
    std::string unit;  // may be empty
    std::string meaning;
    std::string applies;  // to which kinds; empty: always
    bool required = false;
    bool shows_default = true;
    std::string default_value;        // as in JSON; empty: none
    std::vector<std::string> former;  // earlier keys, still read
};

namespace detail {
std::string number_words(double low, double high);
std::string integer_words(std::int64_t low, std::int64_t high);
std::string one_of_words(const std::vector<std::string>& names);
// A pair [low, high] under a key.
std::pair<double, double> read_pair(TableReader& reader, const std::string& key, double low, double high);
}  // namespace detail

template <typename S>
class Setting {
  public:
    using Read = std::function<void(TableReader&, const std::string& key, S&)>;
    using Write = std::function<Json(const S&)>;
    using Condition = std::function<bool(const S&)>;

    Setting(std::string key, std::string type, Read read, Write write)
        : read(std::move(read)), write(std::move(write)) {
        info.key = std::move(key);
        info.type = std::move(type);
    }

    Setting& means(std::string meaning) {
        info.meaning = std::move(meaning);
        return *this;
    }
    Setting& unit(std::string unit) {
        info.unit = std::move(unit);
        return *this;
    }
    // Names of kinds, and the condition: for the others the key is refused and left out.
    Setting& only_for(std::string kinds, Condition condition) {
        info.applies = std::move(kinds);
        applies = std::move(condition);
        return *this;
    }
    // An earlier key, which old files and ledgers may still hold.
    Setting& was(std::string key) {
        info.former.push_back(std::move(key));
        return *this;
    }
    Setting& required() {
        info.required = true;
        return *this;
    }
    // The complete form leaves it out where it stands at its default.
    Setting& if_stated() {
        left_out_at_default = true;
        info.shows_default = false;
        return *this;
    }

    // Read whenever it is stated, written only under this condition.
    Setting& written_if(Condition condition) {
        written = std::move(condition);
        return *this;
    }

    SettingInfo info;
    Read read;
    Write write;
    // The canonical form of a nested table; otherwise that of write.
    Write canonical;
    Condition applies;  // empty: always
    Condition written;  // likewise
    bool left_out_at_default = false;
    // The settings of the table that it holds.
    std::function<std::vector<SettingInfo>()> inner;
};

template <typename S>
class Description {
  public:
    Setting<S>& boolean(const std::string& key, bool S::*member) {
        return custom(
            key, "boolean",
            [member](TableReader& reader, const std::string& k, S& s) {
                s.*member = reader.boolean(k, false);
            },
            [member](const S& s) { return Json(s.*member); });
    }
    Setting<S>& integer(const std::string& key, std::int64_t S::*member, std::int64_t low,
                        std::int64_t high) {
        return custom(
            key, detail::integer_words(low, high),
            [=](TableReader& reader, const std::string& k, S& s) {
                s.*member = reader.integer(k, std::nullopt, low, high);
            },
            [member](const S& s) { return Json(s.*member); });
    }
    Setting<S>& number(const std::string& key, double S::*member, double low, double high) {
        return custom(
            key, detail::number_words(low, high),
            [=](TableReader& reader, const std::string& k, S& s) {
                s.*member = reader.number(k, std::nullopt, low, high);
            },
            [member](const S& s) { return Json(s.*member); });
    }
    Setting<S>& text(const std::string& key, std::string S::*member) {
        return custom(
            key, "string",
            [member](TableReader& reader, const std::string& k, S& s) { s.*member = reader.text(k); },
            [member](const S& s) { return Json(s.*member); });
    }
    // A value of an enumeration with names_of().
    template <typename Enum>
    Setting<S>& word(const std::string& key, Enum S::*member) {
        return custom(
            key, detail::one_of_words(names_of(Enum{}).names()),
            [member](TableReader& reader, const std::string& k, S& s) {
                const std::string stated = reader.text(k);
                s.*member = reader.at(k, [&] { return value_named<Enum>(stated); });
            },
            [member](const S& s) { return Json(name_of(s.*member)); });
    }
    Setting<S>& integers(const std::string& key, std::vector<std::int64_t> S::*member, std::int64_t low,
                         std::int64_t high) {
        return custom(
            key, "list of integers",
            [=](TableReader& reader, const std::string& k, S& s) {
                s.*member = reader.integers(k, low, high);
            },
            [member](const S& s) { return Json(s.*member); });
    }
    // [smallest, largest].
    Setting<S>& range(const std::string& key, std::array<double, 2> S::*member, double low, double high) {
        return custom(
            key, "[smallest, largest], within " + detail::number_words(low, high),
            [=](TableReader& reader, const std::string& k, S& s) {
                const auto [least, most] = detail::read_pair(reader, k, low, high);
                s.*member = {least, most};
            },
            [member](const S& s) { return Json(s.*member); });
    }
    // A table of settings that have a description of their own.
    template <typename T>
    Setting<S>& table(const std::string& key, T S::*member) {
        Setting<S>& setting = custom(
            key, "table",
            [member](TableReader& reader, const std::string& k, S& s) {
                const auto& inner = description_of(s.*member);
                if (inner.text_form() && reader.holds_text(k)) {
                    const std::string stated = reader.text(k);
                    s.*member = reader.at(k, [&] { return inner.text_form()(stated); });
                } else if (auto table = reader.table(k)) {
                    s.*member = inner.read(*table, s.*member);
                }
            },
            [member](const S& s) { return description_of(s.*member).complete(s.*member); });
        setting.canonical = [member](const S& s) { return description_of(s.*member).canonical(s.*member); };
        setting.inner = [] { return description_of(T{}).infos(); };
        return setting;
    }
    // Anything else.
    Setting<S>& custom(const std::string& key, const std::string& type, typename Setting<S>::Read read,
                       typename Setting<S>::Write write) {
        return settings_.emplace_back(key, type, std::move(read), std::move(write));
    }
    // The word that says what kind of settings these are: it is read first, and another one than before
    // starts again from what is usual for it. called names a kind in messages: "the schedule 'cosine'".
    template <typename Enum>
    Setting<S>& kind(const std::string& key, Enum S::*member, std::function<S(Enum)> usual,
                     std::function<std::string(const S&)> called) {
        Setting<S>& setting = word(key, member);
        const auto read = setting.read;
        setting.read = [=](TableReader& reader, const std::string& k, S& s) {
            const Enum before = s.*member;
            S stated = s;
            read(reader, k, stated);
            if (stated.*member != before) s = usual(stated.*member);
        };
        start_ = [=](const S& s) { return usual(s.*member); };
        called_ = std::move(called);
        return setting;
    }
    // All settings of a member, in the same table.
    template <typename T>
    void include(T S::*member) {
        const Description<T>& other = description_of(T{});
        for (const Setting<T>& from : other.settings()) {
            Setting<S>& setting = custom(
                from.info.key, from.info.type,
                [=](TableReader& reader, const std::string& k, S& s) { from.read(reader, k, s.*member); },
                [=](const S& s) { return from.write(s.*member); });
            setting.info = from.info;
            setting.left_out_at_default = from.left_out_at_default;
            setting.inner = from.inner;
            if (from.canonical) setting.canonical = [=](const S& s) { return from.canonical(s.*member); };
            if (from.written) setting.written = [=](const S& s) { return from.written(s.*member); };
            if (from.applies) setting.applies = [=](const S& s) { return from.applies(s.*member); };
        }
        for (const auto& [key, check] : other.checks())
            this->check(key, [member, check = check](const TableReader& reader, const S& s) {
                check(reader, s.*member);
            });
    }

    // What must hold of settings together; an InputError gets the place of the key.
    using Check = std::function<void(const TableReader&, const S&)>;
    void check(std::string key, Check check) { checks_.emplace_back(std::move(key), std::move(check)); }
    // What a text instead of the table stands for: the name of a kind or strength.
    void takes_text(std::function<S(const std::string&)> form) { text_form_ = std::move(form); }

    // What the table states replaces the settings given, the rest stays. Refuses unknown keys.
    S read(TableReader reader, S settings) const {
        read_into(reader, settings);
        reader.finish();
        return settings;
    }
    // The same of a table that holds other keys as well.
    void read_into(TableReader& reader, S& settings) const {
        for (const Setting<S>& setting : settings_) {
            const std::string key = key_in(reader, setting);
            if (!reader.has(key)) {
                if (setting.info.required && applies(setting, settings)) static_cast<void>(reader.text(key));
                continue;
            }
            if (applies(setting, settings))
                setting.read(reader, key, settings);
            else if (!is_read_otherwise(setting, settings))
                reader.at(key, [&] {
                    throw InputError("'" + key + "' applies only to " + setting.info.applies +
                                     (called_ ? ", not to " + called_(settings) : ""));
                });
        }
        for (const auto& [key, check] : checks_)
            reader.at(key, [&, &check = check] { check(reader, settings); });
    }

    // Every setting that applies, in the order of the description.
    Json complete(const S& settings) const {
        const S start = start_for(settings);
        Json json = Json::object();
        for (const Setting<S>& setting : settings_) {
            if (!is_written(setting, settings)) continue;
            Json value = setting.write(settings);
            if (!setting.left_out_at_default || value != setting.write(start))
                json[setting.info.key] = std::move(value);
        }
        return json;
    }
    // Only what differs from the defaults: a key added later, at its default, changes nothing.
    Json canonical(const S& settings) const {
        const S start = start_for(settings);
        const S none{};
        Json json = Json::object();
        for (const Setting<S>& setting : settings_) {
            if (!is_written(setting, settings)) continue;
            if (setting.canonical) {
                if (Json inner = setting.canonical(settings); !inner.empty())
                    json[setting.info.key] = std::move(inner);
            } else {
                // The kind itself is compared with the usual kind, everything else with what is usual for it.
                const bool is_kind = start_ && &setting == &settings_.front();
                Json value = setting.write(settings);
                if (value != setting.write(is_kind ? none : start)) json[setting.info.key] = std::move(value);
            }
        }
        return json;
    }

    std::vector<SettingInfo> infos() const {
        std::vector<SettingInfo> result;
        for (const Setting<S>& setting : settings_) {
            SettingInfo& info = result.emplace_back(setting.info);
            if (info.required || !info.shows_default || setting.inner) continue;
            if (const Json value = setting.write(S{}); !value.is_null())
                info.default_value = json_text(value);
        }
        return result;
    }
    const std::deque<Setting<S>>& settings() const { return settings_; }
    const std::vector<std::pair<std::string, Check>>& checks() const { return checks_; }
    const std::function<S(const std::string&)>& text_form() const { return text_form_; }

  private:
    static bool applies(const Setting<S>& setting, const S& settings) {
        return !setting.applies || setting.applies(settings);
    }
    static bool is_written(const Setting<S>& setting, const S& settings) {
        return applies(setting, settings) && (!setting.written || setting.written(settings));
    }
    // One key may be described for several kinds.
    bool is_read_otherwise(const Setting<S>& one, const S& settings) const {
        for (const Setting<S>& other : settings_)
            if (&other != &one && other.info.key == one.info.key && applies(other, settings)) return true;
        return false;
    }
    S start_for(const S& settings) const { return start_ ? start_(settings) : S{}; }
    static std::string key_in(TableReader& reader, const Setting<S>& setting) {
        reader.mention(setting.info.key);
        for (const std::string& former : setting.info.former) {
            reader.accept(former);
            if (reader.has(former) && !reader.has(setting.info.key)) return former;
        }
        return setting.info.key;
    }

    std::deque<Setting<S>> settings_;
    std::vector<std::pair<std::string, Check>> checks_;
    std::function<S(const S&)> start_;
    std::function<std::string(const S&)> called_;
    std::function<S(const std::string&)> text_form_;
};

// By the description of the type.
template <typename S>
S read_settings(TableReader reader, S settings) {
    const Description<S>& description = description_of(settings);
    return description.read(std::move(reader), std::move(settings));
}
template <typename S>
Json complete_json(const S& settings) {
    return description_of(settings).complete(settings);
}
template <typename S>
Json canonical_json(const S& settings) {
    return description_of(settings).canonical(settings);
}

}  // namespace jevrin::inline v1
