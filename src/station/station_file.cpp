#include "heron/station/station_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>

#include "heron/files/toml_file.hpp"
#include "set_up_file.hpp"

namespace heron {
namespace {

constexpr int version = 1;

/// `key` as a list of words out of `known`, each once.
std::vector<size_t> words_of(const TomlTable& t, const std::string& key,
                             const std::vector<std::string>& known) {
  std::vector<size_t> words;
  for (const std::string& text : t.texts(key)) {
    const auto at = std::find(known.begin(), known.end(), text);
    const auto index = static_cast<size_t>(at - known.begin());
    if (at == known.end())
      t.refuse(key, fmt::format("holds '{}'; it may hold {}", text, fmt::join(known, ", ")));
    if (std::find(words.begin(), words.end(), index) != words.end())
      t.refuse(key, fmt::format("holds '{}' twice", text));
    words.push_back(index);
  }
  return words;
}

/// What is sent, and who may connect.
void read_content(const TomlTable& t, StationFile& station) {
  LinkSettings& link = station.link;
  if (t.has("fields")) {
    link.fields.clear();
    const auto& words = text_protocol::field_words;
    for (const size_t i : words_of(t, "fields", {words.begin(), words.end()}))
      link.fields.push_back(static_cast<text_protocol::Field>(i));
    if (link.fields.empty()) t.refuse("fields", "names no field");
  }
  if (t.has("withhold")) {
    station.withhold.clear();
    for (const size_t i : words_of(t, "withhold", {"ambiguous", "range_end", "not_good"}))
      station.withhold.insert(static_cast<Doubt>(i));
  }
  if (t.has("token")) {
    link.token = t.text("token");
    const bool plain =
        std::all_of(link.token.begin(), link.token.end(), [](char c) { return c > 0x20 && c < 0x7f; });
    if (link.token.empty() || link.token.size() > 64 || !plain)
      t.refuse("token", "must be a word of 1 to 64 printable characters without a space");
  }
  if (t.has("allowed")) link.allowed = t.texts("allowed");
  if (t.has("allowed") && !link.listens)
    t.refuse("allowed", "is for a station that listens; this one connects by itself");
}

FieldForm form_of(const TomlTable& t) {
  FieldForm form{.name = t.text("name"), .of = t.text("of", t.text("name"))};
  form.zero = t.number("zero", 0), form.scale = t.number("scale", 1);
  if (t.has("decimals")) form.decimals = t.whole("decimals");
  form.width = t.whole("width", 0);
  form.missing = t.text("missing", "");
  if (t.has("words")) {
    const TomlTable words = t.table("words");
    for (const std::string& key : words.keys()) form.words[key] = words.text(key);
  }
  t.done();
  return form;
}

/// The receiver's own lines.
LineFormat lines_of(const TomlTable& t) {
  LineFormat format{.line = t.text("line"), .part = t.text("part", ""), .separator = t.text("separator", "")};
  if (t.has("none")) format.none = t.text("none");
  format.max_parts = t.whole("max_parts", format.max_parts);
  format.line_end = t.text("line_end", format.line_end);
  format.ask = t.text("ask", ""), format.acknowledge = t.text("acknowledge", "");
  format.select = t.text("select", ""), format.selected = t.text("selected", "");
  format.not_selected = t.text("not_selected", "");
  if (t.has("field"))
    for (const TomlTable& field : t.tables("field")) format.forms.push_back(form_of(field));
  for (const char* key : {"fields", "token"})
    if (t.has(key)) t.refuse(key, "is of protocol \"text\"; lines of your own say what they hold");
  try {
    LineWriter check(format);
  } catch (const Error& error) {
    t.refuse("line", error.what());
  }
  return format;
}

MappedField mapped_of(const TomlTable& t) {
  MappedField f{.at = t.whole("at"), .of = t.text("of")};
  f.part = t.whole("part", 0), f.every = t.whole("every", 0);
  if (t.has("type")) {
    const auto& words = register_type_words;
    const std::string word = t.word("type", {std::begin(words), std::end(words)});
    f.type =
        static_cast<RegisterType>(std::find(std::begin(words), std::end(words), word) - std::begin(words));
  }
  if (t.has("order"))
    f.order = t.word("order", {"high_first", "low_first"}) == "high_first" ? WordOrder::high_first
                                                                           : WordOrder::low_first;
  f.zero = t.number("zero", 0), f.scale = t.number("scale", 1);
  if (t.has("words")) {
    const TomlTable words = t.table("words");
    for (const std::string& key : words.keys()) f.words.emplace_back(key, words.number(key));
  }
  t.done();
  return f;
}

/// A controller's registers.
RegisterMap registers_of(const TomlTable& t) {
  RegisterMap map;
  map.max_parts = t.whole("max_parts", map.max_parts);
  for (const TomlTable& field : t.tables("register")) map.fields.push_back(mapped_of(field));
  if (t.has("timeout_s"))
    t.refuse("timeout_s",
             "is not for protocol \"modbus\", whose controller may come and go; finish_s and acknowledge_s "
             "say how long the station waits");
  for (const char* key : {"fields", "token"})
    if (t.has(key)) t.refuse(key, "is not for protocol \"modbus\": registers say what it holds");
  if (t.has("connect"))
    map.controller = ControllerRegisters{.station_at = t.whole("station_at"),
                                         .controller_at = t.whole("controller_at"),
                                         .valid_at = t.whole("valid_at")};
  try {
    map.require_valid();
  } catch (const Error& error) {
    t.refuse("register", error.what());
  }
  return map;
}

void read_link(const TomlTable& t, StationFile& station) {
  const std::string protocol = t.word("protocol", {"text", "lines", "modbus"});
  if (protocol == "lines") station.lines = lines_of(t);
  if (protocol == "modbus") station.registers = registers_of(t);
  const bool connects = t.has("connect"), listens = t.has("listen");
  if (connects == listens)
    t.refuse(connects ? "listen" : "protocol",
             "needs either 'connect' or 'listen' beside it, with an address such as \"127.0.0.1:5017\"");
  const std::string key = listens ? "listen" : "connect";
  try {
    station.link.address = Address::parse(t.text(key));
  } catch (const Error& error) {
    t.refuse(key, error.what());
  }
  if (connects && station.link.address.port == 0) t.refuse("connect", "needs a port above 0");
  station.link.listens = listens;
  station.link.mode = t.word("mode", {"push", "ask"}) == "push" ? LinkMode::push : LinkMode::ask;
  read_content(t, station);
  if (station.lines && station.lines->ask.empty() == (station.link.mode == LinkMode::ask))
    t.refuse("mode", station.lines->ask.empty() ? "is \"ask\"; say with ask which line asks"
                                                : "is \"push\"; a line that asks is for mode \"ask\"");
  station.link.timeout = seconds_in(t, "timeout_s", station.link.timeout);
  station.link.acknowledge = seconds_in(t, "acknowledge_s", station.link.acknowledge);
  station.link.finish = seconds_in(t, "finish_s", station.link.finish);
  t.done();
}

Address address_in(const TomlTable& t, const std::string& key) {
  try {
    return Address::parse(t.text(key));
  } catch (const Error& error) {
    t.refuse(key, error.what());
  }
}

double seconds_of(const TomlTable& t, const char* key, double otherwise, double least) {
  const double value = t.number(key, otherwise);
  if (!(value >= least && value <= 86400))
    t.refuse(key, fmt::format("must be from {:g} to 86400 seconds", least));
  return value;
}

TriggerSettings arrival_trigger_of(const TomlTable& t) {
  TriggerSettings trigger{.by = Trigger::arrival};
  ArrivalSettings& a = trigger.arrival;
  trigger.every = std::chrono::milliseconds(static_cast<int64_t>(seconds_of(t, "every_s", 0, 0) * 1000));
  a.steady = t.whole("steady", a.steady);
  if (a.steady < 1 || a.steady > 1000) t.refuse("steady", "must be from 1 to 1000 pictures");
  a.apart_s = seconds_of(t, "apart_s", a.apart_s, 0);
  a.apart_mm = t.number("apart_mm", a.apart_mm);
  if (!(a.apart_mm >= 0 && a.apart_mm <= text_protocol::largest_value))
    t.refuse("apart_mm", fmt::format("must be from 0 to {:g}", text_protocol::largest_value));
  a.follow.reach_px = t.number("reach_px", a.follow.reach_px);
  if (!(a.follow.reach_px >= 1 && a.follow.reach_px <= 10000))
    t.refuse("reach_px", "must be from 1 to 10000 pixels");
  a.follow.lost_after_s = seconds_of(t, "lost_after_s", a.follow.lost_after_s, 0.001);
  a.follow.span_s = seconds_of(t, "span_s", a.follow.span_s, 0.001);
  t.done();
  return trigger;
}

TriggerSettings trigger_of(const TomlTable& t) {
  TriggerSettings trigger;
  const std::string by = t.word("by", {"station", "timer", "command", "arrival"});
  if (by == "arrival") return arrival_trigger_of(t);
  trigger.by = by == "timer" ? Trigger::timer : by == "command" ? Trigger::command : Trigger::station;
  if (by == "timer") trigger.every = seconds_in(t, "every_s", trigger.every);
  if (by != "station") trigger.queue = t.whole("queue", trigger.queue);
  if (trigger.queue < 0 || trigger.queue > 1000) t.refuse("queue", "must be from 0 to 1000");
  t.done();
  return trigger;
}

MqttSettings mqtt_of(const TomlTable& t, const std::string& folder) {
  MqttSettings mqtt{.broker = address_in(t, "broker"), .topic = t.text("topic")};
  if (mqtt.broker.port == 0) t.refuse("broker", "needs a port above 0");
  if (const std::string wrong = wrong_with_topic(mqtt.topic); !wrong.empty()) t.refuse("topic", wrong);
  mqtt.user = t.text("user", "");
  mqtt.password_file = path_in(t, "password_file", folder), mqtt.ca_file = path_in(t, "ca_file", folder);
  if (mqtt.user.empty() && !mqtt.password_file.empty()) t.refuse("password_file", "needs a user beside it");
  t.done();
  return mqtt;
}

HttpSettings http_of(const TomlTable& t, const std::string& folder) {
  HttpSettings http{.listen = address_in(t, "listen"), .token = t.text("token", "")};
  http.certificate = path_in(t, "certificate", folder), http.key = path_in(t, "key", folder);
  if (http.certificate.empty() != http.key.empty())
    t.refuse(http.key.empty() ? "certificate" : "key", "needs both files, certificate and key");
  t.done();
  return http;
}

void read_outlets(const TomlTable& file, const std::string& folder, StationFile& station) {
  if (const auto trigger = file.optional_table("trigger")) {
    station.trigger = trigger_of(*trigger);
    const bool waits = station.trigger.by == Trigger::timer || station.trigger.by == Trigger::command;
    if (waits && station.link.mode == LinkMode::ask)
      trigger->refuse(
          "by", "must be \"station\" or \"arrival\" where the robot asks: its question begins the picture");
  }
  if (const auto mqtt = file.optional_table("mqtt")) station.mqtt = mqtt_of(*mqtt, folder);
  if (const auto http = file.optional_table("http")) station.http = http_of(*http, folder);
  if (!station.store && (station.mqtt || station.http))
    file.refuse(station.mqtt ? "mqtt" : "http",
                "needs a [store]: reports are sent out of it, so that a broker or a reader that is slow or "
                "gone misses none");
  if (station.trigger.by == Trigger::command && !station.mqtt && !station.http)
    file.refuse("trigger", "waits for commands, and there is no [mqtt] or [http] over which they may come");
}

StationStore store_of(const TomlTable& t, const std::string& folder) {
  StationStore store;
  StoreSettings& results = store.results;
  results.folder = (std::filesystem::path(folder) / t.text("folder")).lexically_normal().string();
  results.sync =
      t.has("sync") && t.word("sync", {"each", "system"}) == "system" ? StoreSync::system : StoreSync::each;
  // Sent late, a place is dangerous where parts move; left out, a verdict is lost. Only the user knows which.
  constexpr int never = std::numeric_limits<int>::max(), longest = 366 * 86400;
  const int give_up_s = t.whole_or("give_up_s", "never", never);
  if (give_up_s != never && (give_up_s < 0 || give_up_s > longest))
    t.refuse("give_up_s", fmt::format("must be from 0 to {} seconds, or \"never\"", longest));
  if (give_up_s != never) store.give_up = std::chrono::seconds(give_up_s);
  results.keep_results = t.whole("keep_results", static_cast<int>(results.keep_results));
  if (results.keep_results < 1) t.refuse("keep_results", "must be at least 1");
  if (t.has("keep_days")) {
    results.keep_days = t.number("keep_days");
    if (!(*results.keep_days > 0 && *results.keep_days <= 36500))
      t.refuse("keep_days", "must be above 0 and at most 36500");
  }
  const double mb = t.number("max_mb", static_cast<double>(results.max_bytes) / 1e6);
  if (!(mb >= 1 && mb <= 1e6)) t.refuse("max_mb", "must be from 1 to 1000000");
  results.max_bytes = static_cast<int64_t>(mb * 1e6);
  if (t.has("pictures")) {
    const std::string word = t.word("pictures", {"none", "bad", "all"});
    store.pictures = word == "none"  ? KeptPictures::none
                     : word == "bad" ? KeptPictures::bad
                                     : KeptPictures::all;
  }
  store.keep_pictures = t.whole("keep_pictures", store.keep_pictures);
  if (store.keep_pictures < 1) t.refuse("keep_pictures", "must be at least 1");
  store.keep_first = t.whole("keep_first", store.keep_first);
  if (store.keep_first < 0 || store.keep_first > 1000) t.refuse("keep_first", "must be from 0 to 1000");
  if (store.keep_first > 0 && store.pictures == KeptPictures::none)
    t.refuse("keep_first", "needs pictures = \"bad\" or \"all\"");
  t.done();
  return store;
}

int start_of(const TomlTable& file, const std::vector<SetUp>& setups) {
  if (!file.has("start")) return setups.front().number;
  const int start = file.whole("start");
  if (std::none_of(setups.begin(), setups.end(), [&](const SetUp& s) { return s.number == start; }))
    file.refuse("start", fmt::format("is {}, and no set-up has that number", start));
  return start;
}

/// The pose of a robot that carries the camera comes with its question.
void require_poses(const TomlTable& link, const StationFile& station) {
  const auto setups = station.all_setups();
  if (std::none_of(setups.begin(), setups.end(), [](const SetUp& s) { return s.mount == Mount::arm; }))
    return;
  const char* why = "a camera on the arm needs";
  if (station.lines || station.registers)
    link.refuse("protocol", fmt::format("is not \"text\"; {} \"text\", since the robot's pose comes with its "
                                        "question",
                                        why));
  if (station.link.mode == LinkMode::push)
    link.refuse("mode",
                fmt::format("is \"push\"; {} \"ask\", since the robot's pose comes with its question", why));
}

}  // namespace

StationFile load_station(const std::string& path) {
  const TomlTable file = TomlTable::load(path, version);
  const std::filesystem::path parent = std::filesystem::path(path).parent_path();
  const std::string folder = parent.empty() ? "." : parent.string();
  StationFile station;
  station.path = path;
  station.name = file.text("name");
  const ReadSetUp own = read_set_up(file, folder, {});
  station.setup = own.setup;
  station.setups = read_set_ups(file, folder, own);
  if (station.setups.empty())
    require_whole(file, own);
  else
    station.start = start_of(file, station.setups);
  if (const auto store = file.optional_table("store")) station.store = store_of(*store, folder);
  const TomlTable link = file.table("link");
  read_link(link, station);
  require_poses(link, station);
  read_outlets(file, folder, station);
  file.done();
  return station;
}

}  // namespace heron
