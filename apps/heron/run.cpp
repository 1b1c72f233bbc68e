#include <fmt/format.h>
#include <fmt/ranges.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/line_log.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#ifdef HERON_HAS_MODBUS_LINK
#include "heron/modbus_link/modbus_link.hpp"
#endif
#ifdef HERON_HAS_MQTT_LINK
#include "heron/mqtt_link/mqtt_outlet.hpp"
#endif
#ifdef HERON_HAS_HTTP_LINK
#include "heron/http_link/http_outlet.hpp"
#endif
#include "heron/station/station.hpp"
#include "log.hpp"
#include "options.hpp"
#include "service.hpp"
#include "steps.hpp"
#include "stopping.hpp"
#include "time_shares.hpp"

namespace heron::tool {
namespace {

struct RunOptions {
  std::string station, reports, pictures, trace;
  uint64_t keep = 1000;
  std::optional<int> setup = {};
  bool json = false, dry = false;
};

/// Where pictures and reports of a run go.
class Keeping {
 public:
  /// Throws Error{not_writable} when a place cannot be written to, before anything begins.
  explicit Keeping(const RunOptions& o) : o_(o) {
    if (!o.reports.empty()) log_.emplace(o.reports);
    if (o.pictures.empty()) return;
    std::error_code error;
    std::filesystem::create_directories(o.pictures, error);
    if (error || access(o.pictures.c_str(), W_OK | X_OK) != 0)
      throw Error(ErrorCode::not_writable, fmt::format("--pictures {}: {}", o.pictures,
                                                       error ? error.message() : std::strerror(errno)));
  }

  void keep_line(const std::string& line) {
    if (!log_) return;
    if (const std::string why = log_->append(line); !why.empty())
      log_error("run: {}: {}; the log ends here, the station goes on", o_.reports, why);
  }

  /// The first picture that cannot be written is reported; none are kept after it, and the station goes on.
  void keep_picture(const Station& station, const Report& report) {
    if (o_.pictures.empty() || pictures_failed_ || station.left_behind()) return;
    try {
      save_picture(picture_name(report.number), draw_report(station.view(station.picture()), report));
    } catch (const Error& error) {
      pictures_failed_ = true;
      log_error("run: {}; no more pictures are kept, the station goes on", error.what());
      return;
    }
    std::error_code none;
    if (report.number > o_.keep) std::filesystem::remove(picture_name(report.number - o_.keep), none);
  }

 private:
  std::string picture_name(uint64_t number) const {
    return (std::filesystem::path(o_.pictures) / fmt::format("{:06}.png", number)).string();
  }

  const RunOptions& o_;
  std::optional<LineLog> log_;
  bool pictures_failed_ = false;
};

/// What became of a result, beside its report.
std::string delivery_json(uint64_t number, const Delivery& d) {
  nlohmann::ordered_json j{
      {"number", number}, {"acknowledged", d.acknowledged}, {"done", d.done}, {"tries", d.tries}};
  if (d.given_up) j["given_up"] = true;
  if (!d.why.empty()) j["why"] = d.why;
  return j.dump();
}

struct Tally {
  int pictures = 0, parts = 0, withheld = 0;
  int judged = 0, not_good = 0;  // pictures with a verdict
  bool nothing = false;
  TimeShares finding;
  std::chrono::steady_clock::time_point begun = std::chrono::steady_clock::now();
  std::vector<std::string> unacknowledged;

  void add(const Report& report) {
    ++pictures;
    finding.add(report.elapsed_ms);
    parts += static_cast<int>(report.parts.size());
    nothing = nothing || report.parts.empty();
    for (const ReportedPart& part : report.parts) withheld += !part.withheld.empty();
    judged += report.verdict.has_value(), not_good += report.verdict && *report.verdict != Verdict::good;
  }
};

std::string counted(int n, const char* thing) { return fmt::format("{} {}{}", n, thing, n == 1 ? "" : "s"); }

std::string counted_so_far(const Tally& tally) {
  std::string text = fmt::format("{}, {}", counted(tally.pictures, "picture"), counted(tally.parts, "part"));
  if (tally.withheld > 0) text += fmt::format(" ({} not sent)", tally.withheld);
  if (tally.judged > 0)
    text += fmt::format(", {} good and {} not", tally.judged - tally.not_good, tally.not_good);
  return text;
}

void print_summary(const Tally& tally, const Station& station, bool stopped, bool dry) {
  std::string text = counted_so_far(tally);
  if (dry)
    text += ", nothing was sent";
  else if (tally.unacknowledged.empty())
    text += station.file().lines && station.file().lines->acknowledge.empty() ? ", every result sent"
                                                                              : ", every result acknowledged";
  else
    text += fmt::format(", not acknowledged: result {}", fmt::join(tally.unacknowledged, ", "));
  const LinkCounts link = station.link_counts();
  if (link.repeats > 0) text += fmt::format(", {} sent again", link.repeats);
  if (link.refused_lines > 0) text += fmt::format(", {} refused", counted(link.refused_lines, "line"));
  if (link.turned_away > 0) text += fmt::format(", {} turned away", counted(link.turned_away, "peer"));
  if (station.given_up() > 0) text += fmt::format(", {} given up", counted(station.given_up(), "result"));
  if (station.camera_failures() > 0)
    text += fmt::format(", the camera failed {} and went on", counted(station.camera_failures(), "time"));
  if (station.unfinished() > 0)
    text += fmt::format("; {} acknowledged but never reported DONE", counted(station.unfinished(), "result"));
  if (station.dropped_triggers() > 0)
    text += fmt::format(", {} triggers dropped", station.dropped_triggers());
  log_note("run: {}{}", stopped ? "stopped by a signal: " : "", text);
  if (tally.finding.count() > 1) {
    const std::chrono::duration<double> time = std::chrono::steady_clock::now() - tally.begun;
    log_note(
        "run: a picture took {:.3g} ms to look at, 99 % of them at most {:.3g} ms; {:.3g} pictures a second",
        tally.finding.below(0.5), tally.finding.below(0.99), tally.pictures / time.count());
  }
  for (const auto& outlet : station.outlets()) {
    const OutletCounts c = outlet->counts();
    log_note("run: {}: {} sent{}{}", outlet->text(), counted(static_cast<int>(c.sent), "report"),
             c.waiting > 0 ? fmt::format(", {} on their way", c.waiting) : "",
             c.refused > 0 ? fmt::format(", {} refused", counted(c.refused, "request")) : "");
  }
}

void say_what_the_store_knows(const Station& station) {
  if (!station.file().store || station.taken_before() == 0) return;
  log_note("run: the store {} has results of {} of {}; {}", station.file().store->results.folder,
           counted(static_cast<int>(station.taken_before()), "picture"), station.used_set_up().camera,
           station.used_set_up().camera.starts_with("recording:") ? "the run goes on after them"
                                                                  : "their numbers go on");
}

void open_link(Station& station, [[maybe_unused]] const Work& stop) {
  log_note("run: {}: {} {}", station.file().name,
           station.file().link.listens ? "waiting for the robot at" : "connecting to",
           station.file().link.address.text());
  if (const auto& registers = station.file().registers; !registers)
    station.open_link();
  else
#ifdef HERON_HAS_MODBUS_LINK
    station.open_link(std::make_unique<ModbusLink>(station.file().link, *registers, &stop));
#else
    fail_argument("run: this build has no Modbus; install libmodbus-dev and build again");
#endif
  say_what_the_store_knows(station);
  if (station.link_open_to_all())
    log_note("run: note: every machine that reaches {} may connect; {} in [link] keeps others out",
             station.link_address().text(),
             station.file().lines || station.file().registers ? "`allowed`" : "`allowed` or `token`");
}

template <class Outlet, class Settings>
void open_outlet(Station& station, Settings settings) {
  settings.warn = [](const std::string& what) { log_note("run: {}", what); };
  auto outlet = std::make_unique<Outlet>(settings, station.port());
  log_note("run: also {}", outlet->text());
  station.add_outlet(std::move(outlet));
}

void open_outlets(Station& station) {
  const StationFile& file = station.file();
  if (file.mqtt) {
#ifdef HERON_HAS_MQTT_LINK
    open_outlet<MqttOutlet>(station, *file.mqtt);
#else
    fail_argument("run: this build has no MQTT; install libmosquitto-dev and build again");
#endif
  }
  if (file.http) {
#ifdef HERON_HAS_HTTP_LINK
    open_outlet<HttpOutlet>(station, *file.http);
#else
    fail_argument("run: this build serves no HTTP; install libcpp-httplib-dev and build again");
#endif
  }
}

/// Line by line, with what does not print as its code.
void print_sent(const std::string& bytes) {
  std::string shown;
  bool begun = false;
  for (const char c : bytes) {
    if (!begun) shown += "would send: ", begun = true;
    if (c == '\n')
      shown += "\\n\n", begun = false;
    else if (c == '\r')
      shown += "\\r";
    else if (c == '\t')
      shown += "\\t";
    else
      shown += c;
  }
  fmt::print("{}", shown);
}

/// Those that are no recordings, which the station opens itself.
Cameras live_cameras(const StationFile& file, Work& stop) {
  Cameras cameras;
  for (const SetUp& s : file.all_setups())
    if (!s.camera.starts_with("recording:") && !cameras.contains(s.camera))
      cameras[s.camera] = open_any_camera(s.camera, Pace::at_once, &stop);
  return cameras;
}

int run(const RunOptions& o) {
  if (o.dry && !o.trace.empty()) fail_argument("run: --trace keeps what a link sends; --dry-run opens none");
  StationFile file = load_station(o.station);
  if (o.setup) file.start = *o.setup, file.resume = false;
  for (const SetUp& s : file.all_setups()) require_not_read({o.reports, o.trace}, settings_files(file, s));
  Keeping keeping(o);
  Work& stop = stop_on_signals();
  file.link.trace = o.trace;
  file.link.warn = [](const std::string& what) { log_note("run: {}", what); };
  Cameras cameras = live_cameras(file, stop);
  Station station(std::move(file), std::move(cameras), &stop);
  if (o.dry) {
    station.begin_dry_run();
  } else {
    open_link(station, stop);
    open_outlets(station);
  }
  Service service;
  service.watch([&station] { return station.busy_for(); });
  service.ready();
  Tally tally;
  try {
    while (const std::optional<Report> report = station.next()) {
      tally.add(*report);
      service.status(fmt::format("{}: {}", station.file().name, counted_so_far(tally)));
      if (station.left_behind())
        log_note("run: result {} was not delivered before the station ended; it is sent now", report->number);
      if (o.json)
        fmt::print("{}\n", report_json(*report));
      else
        print_report(*report);
      std::fflush(stdout);
      keeping.keep_line(report_json(*report));  // before it is sent: what a robot got is always on record
      if (o.dry) {
        keeping.keep_picture(station, *report);
        const std::string sent = station.sent_text(*report);
        if (o.json)
          fmt::print("{}\n", nlohmann::json{{"would_send", sent}}.dump());
        else if (station.file().registers)
          fmt::print("would hold:\n{}", sent);
        else
          print_sent(sent);
        std::fflush(stdout);
        continue;
      }
      const Delivery delivery = station.deliver(*report);
      keeping.keep_line(delivery_json(report->number, delivery));
      keeping.keep_picture(station, *report);  // after it was sent: drawing takes longer than sending
      log_detail("run: result {} of {}: {} in {:.1f} ms, sent {}, {}", report->number, report->picture,
                 counted(static_cast<int>(report->parts.size()), "part"), report->elapsed_ms,
                 counted(delivery.tries, "time"),
                 delivery.acknowledged ? "acknowledged" : "not acknowledged");
      if (delivery.acknowledged) continue;
      tally.unacknowledged.push_back(std::to_string(report->number));
      if (!stop.stopped() && !delivery.given_up) {
        station.farewell();
        throw Error(ErrorCode::no_connection, delivery.why);
      }
    }
  } catch (const Error&) {
    print_summary(tally, station, false, o.dry);
    throw;
  }
  print_summary(tally, station, stop.stopped(), o.dry);
  return status_after_stop(tally.nothing ? 1 : 0);
}

}  // namespace

void add_run(CLI::App& app, Action& action) {
  auto o = std::make_shared<RunOptions>();
  CLI::App* c =
      app.add_subcommand("run", "Runs a station: takes pictures, finds parts and sends them to the robot");
  c->add_option("station", o->station, "station file")->required();
  c->add_option(
      "--reports", o->reports,
      "appends two JSON lines for each picture to this file: the report before it is sent, and its delivery");
  c->add_option("--pictures", o->pictures, "folder for the pictures with their overlays");
  c->add_option("--keep-pictures", o->keep, "number of newest pictures that this folder keeps")
      ->capture_default_str()
      ->check(not_negative);
  c->add_option("--trace", o->trace, "appends every line of the link with its time stamp to this file");
  c->add_option("--setup", o->setup,
                "number of the set-up that it starts with, instead of the station file's `start`")
      ->check(not_negative);
  c->add_flag(
      "--dry-run", o->dry,
      "sends nothing and waits for nobody: prints after each picture what would be sent, byte by byte");
  c->add_flag("--json", o->json, "prints one JSON object for each picture");
  c->footer(
      "Example: heron simulate robot --listen 127.0.0.1:5017 --truth truth.json &\n         heron run "
      "station.toml\nExit status 1 when a picture holds no part. Ctrl-C or SIGTERM ends it within a second, "
      "with the\nresult in flight settled, the robot told and the summary printed; the status is then 130 or "
      "143.");
  c->callback([o, &action] { action = [o] { return run(*o); }; });
}

}  // namespace heron::tool
