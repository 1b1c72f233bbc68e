#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/draw/study_picture.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/locate/study.hpp"
#include "heron/locate/survey.hpp"
#include "limit_options.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct StudyOptions {
  std::string target, recording, known, plot, sheet, compare, field;
  LimitOptions limits;
  bool json = false, apply = false;
};

struct Entry {
  std::string file;
  double elapsed_ms = 0;
  StudiedPicture studied;
};

struct Study {
  std::vector<Entry> entries;
  StudyAdvice advice;
  int width = 0, height = 0;

  std::vector<StudiedPicture> pictures() const {
    std::vector<StudiedPicture> all;
    for (const Entry& e : entries) all.push_back(e.studied);
    return all;
  }
};

using KnownParts = std::map<std::string, std::vector<KnownPart>>;

KnownParts load_known(const std::string& path, const Recording& recording) {
  KnownParts known;
  for (const NamedRow& row : load_named_csv(path, 2, 4)) {
    const auto is_it = [&](const RecordedPicture& p) { return p.file == row.name; };
    if (std::none_of(recording.pictures.begin(), recording.pictures.end(), is_it))
      fail_file(fmt::format("{}: '{}' is no picture of {}", path, row.name, recording.folder));
    std::vector<KnownPart>& parts = known[row.name];
    if (row.numbers.empty()) continue;
    KnownPart part{row.numbers[0], row.numbers[1]};
    if (row.numbers.size() > 2) part.angle = degrees(row.numbers[2]);
    if (row.numbers.size() > 3) part.scale = row.numbers[3];
    parts.push_back(part);
  }
  return known;
}

/// How far it is, on a terminal alone.
void show_progress(size_t done, size_t all) {
  if (!isatty(STDERR_FILENO)) return;
  const size_t bar = 40 * done / all;
  fmt::print(stderr, "\r[{:<40}] {} of {}{}", std::string(bar, '#'), done, all, done == all ? "\n" : "");
  std::fflush(stderr);
}

Picture load_for(const std::string& path) {
  Picture picture = load_picture(path);
  picture.name = path;
  return picture;
}

Study study_all(const Target& target, const FindLimits& limits, const Recording& recording,
                const KnownParts* known) {
  Study study;
  for (size_t i = 0; i < recording.size(); ++i) {
    Entry e;
    e.file = recording.pictures[i].file;
    const Picture picture = load_for(recording.path(i));
    study.width = std::max(study.width, picture.width()),
    study.height = std::max(study.height, picture.height());
    const auto begun = std::chrono::steady_clock::now();
    const Survey survey = survey_of(target, picture);
    const Findings found = find(target, survey, limits, Explain::never);
    e.elapsed_ms = milliseconds_since(begun);
    const std::vector<KnownPart>* parts = nullptr;
    if (known)
      if (const auto there = known->find(e.file); there != known->end()) parts = &there->second;
    e.studied = study_picture(target, survey, limits, found, parts);
    study.entries.push_back(std::move(e));
    show_progress(i + 1, recording.size());
  }
  study.advice = advise(target, limits, study.pictures(), study.width, study.height);
  return study;
}

/// Time and parts of a few pictures of the recording under other limits, each best of three.
struct Trial {
  double ms = 0;
  int found = 0;
};

class Trials {
 public:
  Trials(const Target& target, const Recording& recording) : target_(target) {
    const size_t step = std::max<size_t>(1, recording.size() / 5);
    for (size_t i = 0; i < recording.size() && pictures_.size() < 5; i += step)
      pictures_.push_back(load_for(recording.path(i)));
  }
  Trial operator()(const FindLimits& limits) const {
    Trial trial;
    for (const Picture& picture : pictures_) {
      double best = 1e9;
      size_t found = 0;
      for (int run = 0; run < 3; ++run) {
        const auto begun = std::chrono::steady_clock::now();
        found = find(target_, survey_of(target_, picture), limits, Explain::never).sightings.size();
        best = std::min(best, milliseconds_since(begun));
      }
      trial.ms += best / static_cast<double>(pictures_.size()), trial.found += static_cast<int>(found);
    }
    return trial;
  }

 private:
  const Target& target_;
  std::vector<Picture> pictures_;
};

/// One setting: as it is, as proposed, why, and what that does to the time.
struct Proposal {
  std::string name, now, proposed, why;
  double time_share = 1;  ///< of the time as it is
};

std::string range_words(const Range<double>& r) { return fmt::format("{:g}..{:g}", r.min, r.max); }
std::string range_words(const Range<Angle>& r) {
  return fmt::format("{:g}..{:g}", r.min.degrees(), r.max.degrees());
}

std::vector<Proposal> proposals_of(const StudyAdvice& a, const FindLimits& now, const Trials& trials,
                                   const KindInfo& kind) {
  const double before = trials(now).ms;
  std::vector<Proposal> settings;
  const auto add = [&](const char* name, const std::string& is, const std::string& proposed,
                       const std::string& why, const FindLimits& with) {
    settings.push_back({name, is, proposed, why, is == proposed ? 1 : trials(with).ms / before});
  };
  FindLimits with = now;
  with.least_score = a.limits.least_score;
  const std::string wrong = a.best_wrong ? fmt::format("the best of everything else {:.1f}", *a.best_wrong)
                                         : "nothing else comes to 25";
  add("least score", fmt::format("{:g}", now.least_score), fmt::format("{:g}", a.limits.least_score),
      a.separated ? fmt::format("the worst part scores {:.1f}, {}", *a.worst_right, wrong)
                  : fmt::format("no gap: the worst part scores {:.1f}, {}", *a.worst_right, wrong),
      with);
  with = now, with.angle = a.limits.angle;
  if (honours(kind, "angle"))
    add("angle", range_words(now.angle), range_words(a.limits.angle),
        "the angles of all parts, with a margin", with);
  with = now, with.scale = a.limits.scale;
  if (honours(kind, "scale"))
    add("scale", range_words(now.scale), range_words(a.limits.scale),
        "the scales of all parts, with a margin", with);
  with = now, with.least_contrast = a.limits.least_contrast;
  if (honours(kind, "least contrast"))
    add("least contrast", fmt::format("{:g}", now.least_contrast),
        fmt::format("{:g}", a.limits.least_contrast), "a third of the weakest part's, above the noise", with);
  with = now, with.count = a.limits.count;
  const auto count = [](int n) { return n ? fmt::format("{}", n) : std::string("all"); };
  add("count", count(now.count), count(a.limits.count),
      a.limits.count ? "the same in every picture" : "it differs from picture to picture", with);
  if (a.region) {
    const Box& r = *a.region;
    with = now, with.region = Region::rectangle(r);
    add("region", now.region.empty() ? "whole picture" : "as given",
        fmt::format("{:g},{:g},{:g},{:g}", r.x, r.y, r.width, r.height),
        "holds all parts with a margin; give it as --region", with);
  }
  return settings;
}

std::string trouble_of(const StudiedPicture& p) {
  if (p.missing > 0 && p.wrong > 0) return fmt::format("{} missing, {} wrong", p.missing, p.wrong);
  if (p.missing > 0) return fmt::format("{} missing", p.missing);
  if (p.wrong > 0) return fmt::format("{} wrong", p.wrong);
  if (p.margin && *p.margin < 5) return "close to the least score";
  return "";
}

std::string margin_words(const StudiedPicture& p) {
  return p.margin ? fmt::format("{:.1f}", *p.margin) : std::string("-");
}

void print_study(const Study& s, const std::vector<Proposal>& settings, const FindLimits& now,
                 const Trials& trials, const KindInfo& kind) {
  fmt::print("{:<28} {:>8} {:>6} {:>8} {:>8}  {}\n", "picture", "expected", "found", "margin", "ms", "");
  for (const Entry& e : s.entries)
    fmt::print("{:<28} {:>8} {:>6} {:>8} {:>8.1f}  {}\n", e.file,
               e.studied.known ? fmt::format("{}", e.studied.expected) : "?", e.studied.found,
               margin_words(e.studied), e.elapsed_ms, trouble_of(e.studied));
  if (s.advice.right == 0) {
    fmt::print("\nno part in any picture: there is nothing to learn the settings from\n");
    return;
  }
  fmt::print("\nsettings, from {} parts\n  {:<15} {:>14} {:>20} {:>7}  {}\n", s.advice.right, "", "now",
             "proposed", "time", "why");
  for (const Proposal& t : settings)
    fmt::print("  {:<15} {:>14} {:>20} {:>7}  {}\n", t.name, t.now, t.proposed,
               t.now == t.proposed ? "" : fmt::format("{:+.0f} %", 100 * (t.time_share - 1)), t.why);
  if (!honours(kind, "effort")) return;
  fmt::print("\n  {:<15} {:>14} {:>20}\n", "effort", "ms a picture", "found in a few");
  for (const double effort : {0.0, 0.5, 1.0}) {
    FindLimits with = now;
    with.effort = effort;
    const Trial t = trials(with);
    fmt::print("  {:<15} {:>14.1f} {:>20}{}\n", effort, t.ms, t.found, effort == now.effort ? "  now" : "");
  }
}

Json json_of(const StudyOptions& o, const Study& s, const std::vector<Proposal>& settings) {
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
                        {"within", f.within}});
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
  return {{"target", o.target},
          {"recording", o.recording},
          {"pictures", pictures},
          {"gap",
           {{"worst_part", number(s.advice.worst_right)},
            {"best_other", number(s.advice.best_wrong)},
            {"open", s.advice.separated}}},
          {"settings", list}};
}

/// What is better and what is worse than in an older study of the same pictures.
void print_comparison(const std::string& path, const Study& s) {
  Json old;
  try {
    old = Json::parse(read_file(path));
    std::map<std::string, std::pair<int, double>> before;  // found less wrong, time
    for (const Json& p : old.at("pictures"))
      before[p.at("picture").get<std::string>()] = {p.at("found").get<int>() - p.at("wrong").get<int>(),
                                                    p.at("elapsed_ms").get<double>()};
    int better = 0, worse = 0;
    double time_before = 0, time_now = 0;
    fmt::print("\nagainst {}\n", path);
    for (const Entry& e : s.entries) {
      const auto there = before.find(e.file);
      if (there == before.end()) continue;
      const int now = e.studied.found - e.studied.wrong, was = there->second.first;
      time_before += there->second.second, time_now += e.elapsed_ms;
      if (now == was) continue;
      (now > was ? better : worse) += 1;
      fmt::print("  {:<28} {}: right less wrong was {}, is {}\n", e.file, now > was ? "better" : "worse", was,
                 now);
    }
    fmt::print("  {} pictures better, {} worse; time {:+.0f} %\n", better, worse,
               time_before > 0 ? 100 * (time_now / time_before - 1) : 0.0);
  } catch (const nlohmann::json::exception&) {
    fail_file(fmt::format("{}: is no study; write one with `heron study TARGET RECORDING --json > OLD.json`",
                          path));
  }
}

/// The five pictures with the most trouble, as overlays.
void save_sheet(const std::string& path, const Study& s, const Target& target, const FindLimits& limits,
                const Recording& recording) {
  std::vector<size_t> order(s.entries.size());
  for (size_t i = 0; i < order.size(); ++i) order[i] = i;
  const auto rank = [&](size_t i) {
    const StudiedPicture& p = s.entries[i].studied;
    return std::pair(-(p.missing + p.wrong), p.margin.value_or(100));
  };
  std::stable_sort(order.begin(), order.end(), [&](size_t a, size_t b) { return rank(a) < rank(b); });
  order.resize(std::min<size_t>(5, order.size()));
  std::vector<SheetEntry> sheet;
  for (const size_t i : order) {
    const Survey survey = survey_of(target, load_for(recording.path(i)));
    Report report;
    add_findings(report, find(target, survey, limits), {});
    const StudiedPicture& p = s.entries[i].studied;
    sheet.push_back({draw_over(survey, report), fmt::format("{}: {} found, margin {}  {}", s.entries[i].file,
                                                            p.found, margin_words(p), trouble_of(p))});
  }
  save_picture(path, draw_sheet(sheet));
}

int study(const StudyOptions& o) {
  const LoadedTarget loaded = load_target(o.target);
  const Recording recording = load_recording(o.recording);
  if (recording.size() == 0) fail_file(o.recording + ": holds no picture");
  const FindLimits limits = o.limits.applied_to(loaded.target.limits());
  std::optional<KnownParts> known;
  if (!o.known.empty()) known = load_known(o.known, recording);
  const Study s = study_all(loaded.target, limits, recording, known ? &*known : nullptr);
  const Trials trials(loaded.target, recording);
  const std::vector<Proposal> settings =
      s.advice.right ? proposals_of(s.advice, limits, trials, loaded.target.info()) : std::vector<Proposal>{};
  if (o.json)
    fmt::print("{}\n", json_of(o, s, settings).dump(-1, ' ', false, Json::error_handler_t::replace));
  else
    print_study(s, settings, limits, trials, loaded.target.info());
  if (!o.compare.empty()) print_comparison(o.compare, s);
  if (!o.plot.empty()) save_picture(o.plot, draw_scores(s.pictures(), s.advice, limits.least_score));
  if (!o.field.empty())
    save_picture(o.field, draw_field(map_field(s.pictures(), s.width, s.height), s.width, s.height));
  if (!o.sheet.empty()) save_sheet(o.sheet, s, loaded.target, limits, recording);
  if (o.apply && s.advice.right) {
    FindLimits kept = s.advice.limits;
    kept.region = {};
    save_target(o.target, loaded.target.with(kept));
    fmt::print(stderr, "heron: study: {} holds the proposed settings now\n", o.target);
  }
  int trouble = 0;
  for (const Entry& e : s.entries) trouble += e.studied.missing + e.studied.wrong;
  return trouble || s.advice.right == 0 ? 1 : 0;
}

}  // namespace

void add_study(CLI::App& app, Action& action) {
  auto o = std::make_shared<StudyOptions>();
  CLI::App* c = app.add_subcommand("study", "Tries a target on a recording, and says what to set and why");
  c->add_option("target", o->target, "target file")->required();
  c->add_option("recording", o->recording, "folder with recording.toml")->required();
  c->add_option(
      "--known", o->known,
      "CSV of what is there, a row a part: picture,x,y[,angle[,scale]]; a picture's name alone: nothing");
  o->limits.add_to(*c);
  c->add_option("--plot", o->plot, "draws the scores with the gap between parts and everything else");
  c->add_option("--field", o->field,
                "draws the mean score at every place of the field of view, and where nothing was");
  c->add_option("--sheet", o->sheet, "draws the five pictures with the most trouble");
  c->add_option("--compare", o->compare, "an older study (--json): what is better and what is worse");
  c->add_flag("--apply", o->apply, "writes the proposed settings into the target, after showing old and new");
  c->add_flag("--json", o->json, "one JSON object");
  c->footer(
      "Example: heron study leaf.png tray --plot scores.png --sheet worst.png\nExit status 1 when a known "
      "part is "
      "missing or something else is taken for one.");
  c->callback([o, &action] { action = [o] { return study(*o); }; });
}

}  // namespace heron::tool
