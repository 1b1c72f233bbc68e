#include "heron/store/result_store.hpp"

#include <fmt/format.h>
#include <time.h>

#include <filesystem>
#include <fstream>
#include <mutex>
#include <random>

#include "checkpoints.hpp"
#include "database.hpp"
#include "folder_lock.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

using std::chrono::duration_cast;
using std::chrono::nanoseconds;

constexpr int64_t store_version = 1;
constexpr int64_t application = 0x48524e31;  // tells a store from other databases
constexpr uint64_t reserved_at_once = 1000;  // numbers, where a power cut may lose the last results
constexpr uint64_t tidy_every = 64;

std::string system_start() {
  std::string id;
  std::getline(std::ifstream("/proc/sys/kernel/random/boot_id"), id);
  return id;
}

/// Since the system started, sleep included.
nanoseconds system_clock_now() {
  timespec now{};
  clock_gettime(CLOCK_BOOTTIME, &now);
  return std::chrono::seconds(now.tv_sec) + nanoseconds(now.tv_nsec);
}

int64_t wall_ns(std::chrono::system_clock::time_point t) {
  return duration_cast<nanoseconds>(t.time_since_epoch()).count();
}

std::string made_folder(const std::string& folder) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error) throw Error(ErrorCode::not_writable, fmt::format("store {}: {}", folder, error.message()));
  return folder;
}

constexpr const char* columns =
    "SELECT number, source, settings, taken_ns, report, state, why, boot, boot_ns FROM result ";

void require_store(Database& database, const std::string& folder) {
  const int64_t version = database.number("PRAGMA user_version");
  if (database.number("PRAGMA application_id") == application && version == store_version) return;
  fail_file({.file = folder + "/results.db"},
            version > store_version
                ? fmt::format("is a store of version {}, and this program reads version {}; use "
                              "the program that made it, or another folder",
                              version, store_version)
                : std::string("is a database, and no store of a station"));
}

StoredResult row_of(const Statement& s, const std::string& boot) {
  StoredResult r{.number = static_cast<uint64_t>(s.number(0)),
                 .source = s.text(1),
                 .settings = s.text(2),
                 .taken = std::chrono::system_clock::time_point(
                     duration_cast<std::chrono::system_clock::duration>(nanoseconds(s.number(3)))),
                 .report = s.text(4),
                 .state = static_cast<ResultState>(s.number(5)),
                 .why = s.text(6)};
  const nanoseconds age = s.text(7) == boot ? system_clock_now() - nanoseconds(s.number(8))
                                            : nanoseconds(std::chrono::system_clock::now() - r.taken);
  r.age = std::max(duration_cast<std::chrono::milliseconds>(age), std::chrono::milliseconds(0));
  return r;
}

}  // namespace

struct ResultStore::State {
  StoreSettings settings;
  FolderLock lock;
  Database database;
  std::string boot = system_start();
  mutable std::mutex mutex;
  std::string session;
  uint64_t newest = 0, floor = 0, reserved = 0;

  explicit State(const StoreSettings& s)
      : settings(s), lock(made_folder(s.folder)), database(s.folder + "/results.db") {
    begin();
    insert.emplace(
        database,
        "INSERT INTO result(number, source, settings, taken_ns, report, state, why, boot, boot_ns) "
        "VALUES(?, ?, ?, ?, ?, 0, '', ?, ?)");
    count_taken.emplace(
        database, "INSERT INTO source VALUES(?, 1) ON CONFLICT(address) DO UPDATE SET taken = taken + 1");
    change.emplace(database, "UPDATE result SET state = ?, why = ? WHERE number = ?");
    oldest_waiting.emplace(database,
                           (columns + std::string("WHERE state = 0 ORDER BY number LIMIT 1")).c_str());
    one.emplace(database, (columns + std::string("WHERE number = ?")).c_str());
    some.emplace(database, (columns + std::string("WHERE number > ? ORDER BY number LIMIT ?")).c_str());
  }

  Checkpoints checkpoints{settings.folder + "/results.db"};
  std::optional<Statement> insert, count_taken, change, oldest_waiting, one, some;

  void begin() {
    const bool fresh = database.number("SELECT count(*) FROM sqlite_master") == 0;
    if (!fresh) require_store(database, settings.folder);
    database.run("PRAGMA journal_mode = WAL");
    database.run("PRAGMA journal_size_limit = 16000000");
    database.run("PRAGMA wal_autocheckpoint = 0");  // Checkpoints does it, while nobody waits
    sync(true);
    if (fresh) make();
    session = about("session");
    // What may be broken is looked through once, not at every start.
    const bool clean = about("clean") == "1";
    if (!clean && database.text("PRAGMA quick_check(1)") != "ok")
      fail_file({.file = settings.folder + "/results.db"},
                "is broken; move its folder away, and a new store begins");
    newest = static_cast<uint64_t>(database.number("SELECT max(number) FROM result"));
    reserved = std::stoull(about("reserved")), floor = std::stoull(about("floor"));
    // The last results may be gone, and with them their numbers.
    if (!clean && about("boot") != boot && about("sync") == "system") floor = std::max(floor, reserved);
    Transaction all(database);
    set_about("floor", std::to_string(floor));
    set_about("clean", "0"), set_about("boot", boot);
    set_about("sync", settings.sync == StoreSync::system ? "system" : "each");
    all.commit();
    sync(settings.sync == StoreSync::each);
  }

  void make() {
    Transaction all(database);
    database.run(
        fmt::format("PRAGMA application_id = {}; PRAGMA user_version = {}", application, store_version));
    database.run(
        "CREATE TABLE about(key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;"
        "CREATE TABLE result(number INTEGER PRIMARY KEY, source TEXT NOT NULL, settings TEXT NOT NULL,"
        " taken_ns INTEGER NOT NULL, report TEXT NOT NULL, state INTEGER NOT NULL, why TEXT NOT NULL,"
        " boot TEXT NOT NULL, boot_ns INTEGER NOT NULL);"
        "CREATE INDEX waiting ON result(number) WHERE state = 0;"
        "CREATE TABLE source(address TEXT PRIMARY KEY, taken INTEGER NOT NULL) WITHOUT ROWID;"
        "CREATE TABLE receiver(name TEXT PRIMARY KEY, number INTEGER NOT NULL) WITHOUT ROWID;");
    std::random_device random;
    set_about("session", fmt::format("{:08x}", random()));
    for (const char* key : {"floor", "reserved"}) set_about(key, "0");
    set_about("clean", "1"), set_about("boot", ""), set_about("sync", "");
    all.commit();
  }

  std::string about(const char* key) {
    Statement read(database, "SELECT value FROM about WHERE key = ?");
    if (!read.with(std::string(key)).step())
      fail_file({.file = settings.folder + "/results.db"}, fmt::format("lacks its entry '{}'", key));
    return read.text(0);
  }
  void set_about(const char* key, const std::string& value) {
    Statement write(database, "INSERT INTO about VALUES(?, ?) ON CONFLICT(key) DO UPDATE SET value = ?");
    write.with(std::string(key), value, value).finish();
  }
  void sync(bool each) { database.run(each ? "PRAGMA synchronous = FULL" : "PRAGMA synchronous = NORMAL"); }

  uint64_t next_number() const { return std::max(newest, floor) + 1; }

  /// No number is given twice, whatever a power cut takes.
  void reserve(uint64_t number) {
    if (settings.sync == StoreSync::each || number <= reserved) return;
    sync(true);
    set_about("reserved", std::to_string(number + reserved_at_once));
    sync(false);
    reserved = number + reserved_at_once;
  }

  std::optional<StoredResult> first_of(Statement& s) const {
    if (!s.step()) return std::nullopt;
    StoredResult r = row_of(s, boot);
    s.reset();
    return r;
  }

  int64_t used_bytes() {
    return (database.number("PRAGMA page_count") - database.number("PRAGMA freelist_count")) *
           database.number("PRAGMA page_size");
  }

  /// The newest stays, so that its number is known.
  int remove(const std::string& which) {
    database.run(fmt::format("DELETE FROM result WHERE state <> 0 AND number < {} AND {}", newest, which));
    return database.changes();
  }

  void prune() {
    const auto keep = static_cast<uint64_t>(std::max<int64_t>(settings.keep_results, 1));
    if (newest > keep) remove(fmt::format("number <= {}", newest - keep));
    if (settings.keep_days) {
      const int64_t now = wall_ns(std::chrono::system_clock::now());
      remove(fmt::format("taken_ns < {}", now - static_cast<int64_t>(*settings.keep_days * 86400e9)));
    }
    while (used_bytes() > settings.max_bytes) {
      const int64_t oldest = database.number("SELECT min(number) FROM result");
      const int64_t a_tenth = (static_cast<int64_t>(newest) - oldest) / 10 + 1;
      if (remove(fmt::format("number < {}", oldest + a_tenth)) == 0) return;
    }
  }
};

ResultStore::ResultStore(const StoreSettings& settings) : state_(std::make_unique<State>(settings)) {}

ResultStore::~ResultStore() {
  try {
    state_->sync(true);
    state_->set_about("clean", "1");
  } catch (const Error&) {
    // It is looked through at the next start.
  }
}

const std::string& ResultStore::session() const { return state_->session; }

uint64_t ResultStore::newest() const {
  const std::lock_guard lock(state_->mutex);
  return state_->newest;
}

int ResultStore::selected_setup() const {
  const std::lock_guard lock(state_->mutex);
  return static_cast<int>(
      state_->database.number("SELECT max(CAST(value AS INTEGER)) FROM about WHERE key = 'setup'"));
}

void ResultStore::set_selected_setup(int number) {
  const std::lock_guard lock(state_->mutex);
  state_->set_about("setup", std::to_string(number));
}

uint64_t ResultStore::next_number() const {
  const std::lock_guard lock(state_->mutex);
  return state_->next_number();
}

void ResultStore::add(const StoredResult& r, std::chrono::steady_clock::time_point taken) {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  if (r.number != s.next_number())
    fail_argument(fmt::format("store: result {} comes where {} should", r.number, s.next_number()));
  s.reserve(r.number);
  const auto age = std::chrono::steady_clock::now() - taken;
  const int64_t taken_ns = wall_ns(std::chrono::system_clock::now()) - nanoseconds(age).count();
  const int64_t boot_ns = (system_clock_now() - nanoseconds(age)).count();
  Transaction both(s.database);
  s.insert->with(r.number, r.source, r.settings, taken_ns, r.report, s.boot, boot_ns).finish();
  s.count_taken->with(r.source).finish();
  both.commit();
  s.newest = r.number;
}

void ResultStore::settle(uint64_t number, ResultState state, const std::string& why) {
  const std::lock_guard lock(state_->mutex);
  state_->change->with(static_cast<int>(state), why, number).finish();
  if (number % tidy_every != 0 || state == ResultState::acknowledged) return;
  state_->prune();  // here, where nobody waits for a first byte
  state_->checkpoints.begin_one();
}

uint64_t ResultStore::taken_of(const std::string& source) const {
  const std::lock_guard lock(state_->mutex);
  Statement read(state_->database, "SELECT taken FROM source WHERE address = ?");
  return read.with(source).step() ? static_cast<uint64_t>(read.number(0)) : 0;
}

std::optional<StoredResult> ResultStore::unsettled() const {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  if (auto waiting = s.first_of(s.oldest_waiting->with())) return waiting;
  auto last = s.first_of(s.one->with(s.newest));
  return last && last->state == ResultState::acknowledged ? last : std::nullopt;
}

std::optional<StoredResult> ResultStore::result(uint64_t number) const {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  return s.first_of(s.one->with(number));
}

std::vector<StoredResult> ResultStore::after(uint64_t number, size_t limit) const {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  std::vector<StoredResult> results;
  s.some->with(number, static_cast<int64_t>(limit));
  while (s.some->step()) results.push_back(row_of(*s.some, s.boot));
  return results;
}

StoreCounts ResultStore::counts() const {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  return {.results = s.database.number("SELECT count(*) FROM result"),
          .waiting = s.database.number("SELECT count(*) FROM result WHERE state = 0"),
          .given_up = s.database.number("SELECT count(*) FROM result WHERE state = 3"),
          .bytes = s.used_bytes()};
}

uint64_t ResultStore::position(const std::string& receiver) const {
  const std::lock_guard lock(state_->mutex);
  Statement read(state_->database, "SELECT number FROM receiver WHERE name = ?");
  return read.with(receiver).step() ? static_cast<uint64_t>(read.number(0)) : 0;
}

void ResultStore::set_position(const std::string& receiver, uint64_t number) {
  const std::lock_guard lock(state_->mutex);
  Statement write(state_->database,
                  "INSERT INTO receiver VALUES(?, ?) ON CONFLICT(name) DO UPDATE SET number = ?");
  write.with(receiver, number, number).finish();
}

struct StoreReader::State {
  Database database;
  std::string boot = system_start();
  explicit State(const std::string& folder) : database(folder + "/results.db", Database::Use::read) {
    require_store(database, folder);
  }
};

StoreReader::StoreReader(const std::string& folder) : state_(std::make_unique<State>(folder)) {}
StoreReader::~StoreReader() = default;

std::string StoreReader::session() const {
  return state_->database.text("SELECT value FROM about WHERE key = 'session'");
}
uint64_t StoreReader::newest() const {
  return static_cast<uint64_t>(state_->database.number("SELECT max(number) FROM result"));
}
std::vector<StoredResult> StoreReader::after(uint64_t number, size_t limit) const {
  std::vector<StoredResult> results;
  Statement some(state_->database,
                 (columns + std::string("WHERE number > ? ORDER BY number LIMIT ?")).c_str());
  some.with(number, static_cast<int64_t>(limit));
  while (some.step()) results.push_back(row_of(some, state_->boot));
  return results;
}

}  // namespace heron
