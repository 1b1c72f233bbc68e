#include "study_tell.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <chrono>
#include <map>

#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

void print_trends(const std::vector<FigureTrend>& trends) {
  bool any = false;
  for (const FigureTrend& t : trends) {
    if (!t.changes()) continue;
    if (!any) fmt::print("\nover the recording\n");
    any = true;
    fmt::print("  {:<22} {:>10.4g} to {:>10.4g}   {:+.3g} \u00b1 {:.2g}\n", t.name, t.first, t.last,
               t.last - t.first, t.change_sigma);
  }
}

/// Why nothing that is found is where a part is known to lie.
std::string words(const KnownOffset& offset) {
  std::string differs;
  if (norm(offset.place) >= 1)
    differs = fmt::format("lies ({:.1f}, {:.1f}) px from it in the part's own frame", offset.place.x,
                          offset.place.y);
  const auto add = [&](const std::string& more) { differs += (differs.empty() ? "" : ", ") + more; };
  if (std::abs(offset.turn.degrees()) >= 1)
    add(fmt::format("is turned by {:.1f} degrees against it", offset.turn.degrees()));
  if (offset.other_sense)
    add("counts its angle the other way round (a picture angle grows from +x towards +y)");
  return fmt::format(
      "beside each find a part is known that {}: it means another origin or angle than was taught", differs);
}

/// What a place of the field of view saw; null where nothing was.
Json json_of(const FieldMap::Place& p) {
  if (p.count == 0) return nullptr;
  return {{"count", p.count}, {"mean", p.mean}, {"lowest", p.lowest}};
}

Json json_of(const FieldMap& field) {
  Json places = Json::array(), bands = Json::array();
  for (const FieldMap::Place& p : field.places) places.push_back(json_of(p));
  for (const FieldMap::Place& p : field.bands) bands.push_back(json_of(p));
  return {{"columns", field.columns}, {"rows", field.rows}, {"places", places}, {"from_centre", bands}};
}

Json json_of(const std::vector<FigureTrend>& trends) {
  Json all = Json::array();
  for (const FigureTrend& t : trends)
    all.push_back({{"name", t.name},
                   {"first", t.first},
                   {"last", t.last},
                   {"change_sigma", t.change_sigma},
                   {"changes", t.changes()}});
  return all;
}

}  // namespace

Picture load_for(const std::string& path) {
  Picture picture = load_picture(path);
  picture.name = path;
  return picture;
}

Trials::Trials(const Target& target, const Recording& recording) : target_(target) {
  const size_t step = std::max<size_t>(1, recording.size() / 5);
  for (size_t i = 0; i < recording.size() && pictures_.size() < 5; i += step)
    pictures_.push_back(load_for(recording.path(i)));
}

Trial Trials::operator()(const FindOptions& options) const {
  Trial trial;
  for (const Picture& picture : pictures_) {
    double best = 1e9;
    size_t found = 0;
    for (int run = 0; run < 3; ++run) {
      const auto begun = std::chrono::steady_clock::now();
      found = find(target_, prepare(picture, target_), options, Explain::never).detections.size();
      best = std::min(best, milliseconds_since(begun));
    }
    trial.ms += best / static_cast<double>(pictures_.size()), trial.found += static_cast<int>(found);
  }
  return trial;
}

/// "4 missing (contrast)", "4 missing (3 contrast, 1 not seen at all)".
std::string missing_words(const StudiedPicture& p) {
  std::map<std::string, int> reasons;
  int unseen = p.missing;
  for (const StudiedFind& f : p.finds) {
    if (!f.right || f.within) continue;
    --unseen;
    ++reasons[f.reasons.empty() ? "seen more thoroughly" : fmt::format("{}", fmt::join(f.reasons, " and "))];
  }
  if (unseen > 0) reasons["not seen at all"] = unseen;
  std::string words;
  for (const auto& [reason, count] : reasons)
    words += words.empty() && count == p.missing
                 ? reason
                 : fmt::format("{}{} {}", words.empty() ? "" : ", ", count, reason);
  return fmt::format("{} missing ({})", p.missing, words);
}

std::string trouble_of(const StudiedPicture& p) {
  if (p.missing > 0 && p.wrong > 0) return fmt::format("{}, {} wrong", missing_words(p), p.wrong);
  if (p.missing > 0) return missing_words(p);
  if (p.wrong > 0) return fmt::format("{} wrong", p.wrong);
  if (p.margin && *p.margin < 5) return "close to the min score";
  return "";
}

std::string margin_words(const StudiedPicture& p) {
  return p.margin ? fmt::format("{:.1f}", *p.margin) : std::string("-");
}

void print_study(const Study& s, const std::vector<Proposal>& settings, const FindOptions& now,
                 const Trials& trials, const KindInfo& kind) {
  fmt::print("{:<28} {:>8} {:>6} {:>8} {:>8}  {}\n", "picture", "expected", "found", "margin", "ms", "");
  for (const Entry& e : s.entries)
    fmt::print("{:<28} {:>8} {:>6} {:>8} {:>8.1f}  {}\n", e.file,
               e.studied.known ? fmt::format("{}", e.studied.expected) : "?", e.studied.found,
               margin_words(e.studied), e.elapsed_ms, trouble_of(e.studied));
  print_trends(trends_of(s.pictures()));
  if (s.advice.right == 0) {
    fmt::print("\nno part in any picture: there is nothing to learn the settings from\n");
    if (s.offset) fmt::print("{}\n", words(*s.offset));
    return;
  }
  fmt::print("\nsettings, from {} parts\n  {:<15} {:>14} {:>20} {:>7}  {}\n", s.advice.right, "", "now",
             "proposed", "time", "why");
  for (const Proposal& t : settings)
    fmt::print("  {:<15} {:>14} {:>20} {:>7}  {}\n", t.name, t.now, t.proposed,
               t.now == t.proposed ? ""
               : t.time_share == 1 ? "as now"
                                   : fmt::format("{:+.0f} %", 100 * (t.time_share - 1)),
               t.why);
  if (!honours(kind, "thoroughness")) return;
  fmt::print("\n  {:<15} {:>14} {:>20}\n", "thoroughness", "ms a picture", "parts in the samples");
  for (const Thoroughness each : {Thoroughness::quick, Thoroughness::normal, Thoroughness::exhaustive}) {
    FindOptions with = now;
    with.thoroughness = each;
    const Trial t = trials(with);
    fmt::print("  {:<15} {:>14.1f} {:>20}{}\n", word_of(each), t.ms, t.found,
               each == now.thoroughness ? "  now" : "");
  }
}

Json json_of(const std::string& target, const std::string& recording, const Study& s,
             const std::vector<Proposal>& settings) {
  Json pictures = Json::array();
  for (const Entry& e : s.entries) {
    Json scores = Json::array();
    for (const StudiedFind& f : e.studied.finds)
      scores.push_back({{"x", f.x},
                        {"y", f.y},
                        {"angle", f.angle.degrees()},
                        {"scale", f.scale},
                        {"score", f.score},
                        {"part", f.right},
                        {"within", f.within},
                        {"limits", f.reasons}});
    pictures.push_back({{"picture", e.file},
                        {"elapsed_ms", e.elapsed_ms},
                        {"expected", e.studied.known ? Json(e.studied.expected) : Json(nullptr)},
                        {"found", e.studied.found},
                        {"missing", e.studied.missing},
                        {"wrong", e.studied.wrong},
                        {"margin", e.studied.margin ? Json(*e.studied.margin) : Json(nullptr)},
                        {"scores", scores}});
  }
  Json list = Json::array();
  for (const Proposal& t : settings)
    list.push_back({{"name", t.name},
                    {"now", t.now},
                    {"proposed", t.proposed},
                    {"time_share", t.time_share},
                    {"why", t.why}});
  const auto number = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
  return {{"target", target},
          {"recording", recording},
          {"pictures", pictures},
          {"gap",
           {{"worst_part", number(s.advice.worst_right)},
            {"best_other", number(s.advice.best_wrong)},
            {"open", s.advice.separated}}},
          {"trends", json_of(trends_of(s.pictures()))},
          {"field", json_of(map_field(s.pictures(), s.width, s.height))},
          {"settings", list}};
}

/// What is better and what is worse than in an older study of the same pictures.
void print_comparison(const std::string& path, const Study& s) {
  Json old;
  try {
    old = Json::parse(read_file(path));
    std::map<std::string, std::pair<double, double>> before;  // found less wrong, time
    for (const Json& p : old.at("pictures"))
      before[p.at("picture").get<std::string>()] = {p.at("found").get<double>() - p.at("wrong").get<double>(),
                                                    p.at("elapsed_ms").get<double>()};
    int better = 0, worse = 0;
    double time_before = 0, time_now = 0;
    fmt::print("\nagainst {}\n", path);
    for (const Entry& e : s.entries) {
      const auto there = before.find(e.file);
      if (there == before.end()) continue;
      const double now = e.studied.found - e.studied.wrong, was = there->second.first;
      time_before += there->second.second, time_now += e.elapsed_ms;
      if (now == was) continue;
      (now > was ? better : worse) += 1;
      fmt::print("  {:<28} {}: right less wrong was {}, is {}\n", e.file, now > was ? "better" : "worse", was,
                 now);
    }
    fmt::print("  {} pictures better, {} worse; time {:+.0f} %\n", better, worse,
               time_before > 0 ? 100 * (time_now / time_before - 1) : 0.0);
  } catch (const nlohmann::json::exception&) {
    fail_file({path}, "is no study; write one with `heron study TARGET RECORDING --json > OLD.json`");
  }
}

}  // namespace heron::tool
