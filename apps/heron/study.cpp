#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <filesystem>
#include <map>

#include "commands.hpp"
#include "find_arguments.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/draw/sheet.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/study.hpp"
#include "heron/plot/study_plots.hpp"
#include "log.hpp"
#include "options.hpp"
#include "progress.hpp"
#include "steps.hpp"
#include "study_tell.hpp"

namespace heron::tool {
namespace {

struct StudyOptions {
  std::string target, recording, known, plot, sheet, compare, field, trend;
  FindArguments options;
  bool json = false, apply = false, plot_data = false;
};

using KnownParts = std::map<std::string, std::vector<KnownPart>>;

KnownParts load_known(const std::string& path, const Recording& recording) {
  KnownParts known;
  for (const NamedRow& row : load_named_csv(path, "picture", {"x", "y"}, {"angle", "scale"})) {
    const auto is_it = [&](const RecordedPicture& p) { return p.file == row.name; };
    if (std::none_of(recording.pictures.begin(), recording.pictures.end(), is_it))
      fail_file({path}, fmt::format("'{}' is no picture of {}", row.name, recording.folder));
    std::vector<KnownPart>& parts = known[row.name];
    if (!row.numbers[0]) continue;
    KnownPart part{*row.numbers[0], *row.numbers[1]};
    if (row.numbers[2]) part.angle = degrees(*row.numbers[2]);
    part.scale = row.numbers[3];
    parts.push_back(part);
  }
  if (known.empty())
    fail_file({path}, "holds no row; it needs picture,x,y for every part, or a picture's name alone");
  return known;
}

Study study_all(const Target& target, const FindOptions& options, const Recording& recording,
                const KnownParts* known) {
  Study study;
  Progress progress(recording.size(), "pictures");
  for (size_t i = 0; i < recording.size(); ++i) {
    Entry e;
    e.file = recording.pictures[i].file;
    const Picture picture = load_for(recording.path(i));
    study.width = std::max(study.width, picture.width()),
    study.height = std::max(study.height, picture.height());
    const auto begun = std::chrono::steady_clock::now();
    const PreparedPicture prepared = prepare(picture, target);
    const FindResult found = find(target, prepared, options, Explain::never);
    e.elapsed_ms = milliseconds_since(begun);
    const std::vector<KnownPart>* parts = nullptr;
    if (known)
      if (const auto there = known->find(e.file); there != known->end()) parts = &there->second;
    e.studied = study_picture(target, prepared, options, found, parts);
    study.entries.push_back(std::move(e));
    progress.step();
  }
  study.advice = advise(target, options, study.pictures(), study.width, study.height);
  study.offset = offset_of_known(target, study.pictures());
  return study;
}

std::string range_words(const Range<double>& r) { return fmt::format("{:g}..{:g}", r.min, r.max); }
std::string range_words(const Range<Angle>& r) {
  return fmt::format("{:g}..{:g}", r.min.degrees(), r.max.degrees());
}

/// Of the time as it is; 1 where three pairs, timed in turn, do not agree on which is faster.
double share_of_time(const Trials& trials, const FindOptions& now, const FindOptions& with) {
  std::array<double, 3> shares{};
  for (double& share : shares) {
    const double before = trials(now).ms;
    share = trials(with).ms / before;
  }
  std::sort(shares.begin(), shares.end());
  return shares.front() < 1 && shares.back() > 1 ? 1 : shares[1];
}

std::vector<Proposal> proposals_of(const StudyAdvice& a, const FindOptions& now, const Trials& trials,
                                   const KindInfo& kind) {
  std::vector<Proposal> settings;
  const auto add = [&](const char* name, const std::string& is, const std::string& proposed,
                       const std::string& why, const FindOptions& with) {
    settings.push_back({name, is, proposed, why, is == proposed ? 1 : share_of_time(trials, now, with)});
  };
  FindOptions with = now;
  with.min_score = a.options.min_score;
  const std::string wrong = a.best_wrong ? fmt::format("the best of everything else {:.1f}", *a.best_wrong)
                                         : "nothing else comes to 25";
  add("min score", fmt::format("{:g}", now.min_score), fmt::format("{:g}", a.options.min_score),
      a.separated ? fmt::format("the worst part scores {:.1f}, {}", *a.worst_right, wrong)
                  : fmt::format("no gap: the worst part scores {:.1f}, {}", *a.worst_right, wrong),
      with);
  with = now, with.angle = a.options.angle;
  if (honours(kind, "angle"))
    add("angle", range_words(now.angle), range_words(a.options.angle),
        "the angles of all parts, with a margin", with);
  with = now, with.scale = a.options.scale;
  if (honours(kind, "scale"))
    add("scale", range_words(now.scale), range_words(a.options.scale),
        "the scales of all parts, with a margin", with);
  with = now, with.min_contrast = a.options.min_contrast;
  if (honours(kind, "min contrast"))
    add("min contrast", fmt::format("{:g}", now.min_contrast), fmt::format("{:g}", a.options.min_contrast),
        "a third of the weakest part's, above the noise", with);
  with = now, with.max_count = a.options.max_count;
  add("max count", count_word(now.max_count), count_word(a.options.max_count),
      a.options.max_count != FindOptions::all ? "the same in every picture"
                                              : "it differs from picture to picture",
      with);
  if (a.region) {
    const Box& r = *a.region;
    with = now, with.region = Region::rectangle(r);
    add("region", now.region.empty() ? "whole picture" : "as given",
        fmt::format("{:g},{:g},{:g},{:g}", r.x, r.y, r.width, r.height),
        "holds all parts with a margin; give it as --region", with);
  }
  return settings;
}

/// The five pictures with the most trouble, as overlays.
void save_sheet(const std::string& path, const Study& s, const Target& target, const FindOptions& options,
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
    const PreparedPicture prepared = prepare(load_for(recording.path(i)), target);
    Report report;
    add_result(report, find(target, prepared, options), {});
    const StudiedPicture& p = s.entries[i].studied;
    std::string words = fmt::format("{}: {} found", s.entries[i].file, p.found);
    if (p.margin) words += fmt::format(", margin {:.1f}", *p.margin);
    if (const std::string trouble = trouble_of(p); !trouble.empty()) words += ", " + trouble;
    sheet.push_back({draw_over(prepared, report, nullptr, sheet_cell_width), words});
  }
  save_picture(path, draw_sheet(sheet));
}

int study(const StudyOptions& o) {
  require_not_read({o.plot, o.sheet, o.field, o.trend}, {o.target, o.known, o.compare});
  bool plots = false;
  for (const std::string& path : {o.plot, o.field, o.trend})
    if (!path.empty()) require_plot_file(path), plots = true;
  if (o.plot_data && !plots) fail_argument("study: --plot-data needs --plot, --field or --trend");
  const LoadedTarget loaded = load_target(o.target);
  const Recording recording = load_recording(o.recording);
  if (recording.size() == 0) fail_file({o.recording}, "holds no picture");
  const FindOptions options = o.options.applied_to(loaded.target.options());
  std::optional<KnownParts> known;
  if (!o.known.empty()) known = load_known(o.known, recording);
  const Study s = study_all(loaded.target, options, recording, known ? &*known : nullptr);
  const Trials trials(loaded.target, recording);
  const std::vector<Proposal> settings = s.advice.right
                                             ? proposals_of(s.advice, options, trials, loaded.target.info())
                                             : std::vector<Proposal>{};
  if (o.json)
    fmt::print("{}\n", json_of(o.target, o.recording, s, settings)
                           .dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
  else
    print_study(s, settings, options, trials, loaded.target.info());
  if (!o.compare.empty()) print_comparison(o.compare, s);
  if (!o.plot.empty()) save_plot(o.plot, scores_plot(s.pictures(), s.advice, options.min_score), o.plot_data);
  if (!o.field.empty())
    save_plot(o.field, field_plot(map_field(s.pictures(), s.width, s.height), s.width, s.height),
              o.plot_data);
  if (!o.trend.empty())
    save_plot(o.trend, trends_plot(trends_of(s.pictures()), s.entries.size()), o.plot_data);
  if (!o.sheet.empty()) save_sheet(o.sheet, s, loaded.target, options, recording);
  if (o.apply && s.advice.right) {
    FindOptions kept = s.advice.options;
    kept.region = {};
    save_target(o.target, loaded.target.with(kept));
    log_note("study: {} holds the proposed settings now", o.target);
  }
  int trouble = 0;
  for (const Entry& e : s.entries) trouble += e.studied.missing + e.studied.wrong;
  return trouble || s.advice.right == 0 ? 1 : 0;
}

}  // namespace

void add_study(CLI::App& app, Action& action) {
  auto o = std::make_shared<StudyOptions>();
  CLI::App* c =
      app.add_subcommand("study", "Tests a target on a recording and recommends settings with their reasons");
  c->add_option("target", o->target, "target file")->required();
  c->add_option("recording", o->recording, "a recording, or a folder of pictures")->required();
  c->add_option("--known", o->known,
                "CSV file with the true parts, one row each: picture,x,y[,angle[,scale]]; only a picture's "
                "name: no part in it");
  o->options.add_to(*c);
  c->add_option(
      "--plot", o->plot,
      "draws the scores of parts and of everything else, with the gap between them; .png, .svg or .pdf");
  c->add_option("--field", o->field, "draws the mean score over the field of view");
  c->add_option("--trend", o->trend, "draws score, contrast and a marker's quality over the recording");
  c->add_flag("--plot-data", o->plot_data, "writes the numbers of each plot beside it, as FILE.csv");
  c->add_option("--sheet", o->sheet, "draws the five most difficult pictures");
  c->add_option("--compare", o->compare, "earlier study (--json) to compare with");
  c->add_flag("--apply", o->apply,
              "writes the recommended settings into the target, after showing old and new");
  c->add_flag("--json", o->json, "prints one JSON object");
  c->footer(
      "Example: heron study leaf.png tray --plot scores.png --sheet worst.png\nExit status 1 when a known "
      "part is "
      "missing or something else is taken for one.");
  c->callback([o, &action] { action = [o] { return study(*o); }; });
}

}  // namespace heron::tool
