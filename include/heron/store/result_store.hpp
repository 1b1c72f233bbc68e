#pragma once
#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace heron {

/// When a result counts as stored. Either way nothing is lost when the program is killed.
enum class StoreSync {
  each,    ///< it is on the disk: a power cut loses nothing
  system,  ///< the system has it: faster, and a power cut may lose the last ones; the numbers jump after one
};

/// How results are kept.
struct StoreSettings {
  std::string folder;  ///< made when it is not there; holds results.db, an SQLite database
  StoreSync sync = StoreSync::each;
  int64_t keep_results = 100000;           ///< older ones leave, once they are settled
  std::optional<double> keep_days = {};    ///< those of before leave as well
  int64_t max_bytes = 1000 * 1000 * 1000;  ///< of the database; the oldest settled ones leave before it grows
};

enum class ResultState {
  waiting,       ///< not acknowledged yet
  acknowledged,  ///< the receiver has it, and did not report that it is done
  done,
  given_up,  ///< it will not be sent any more
};
inline constexpr const char* result_state_words[] = {"waiting", "acknowledged", "done", "given up"};
inline const char* word_of(ResultState state) { return result_state_words[static_cast<size_t>(state)]; }

/// One result as it is stored.
struct StoredResult {
  uint64_t number = 0;
  std::string source = {};                           ///< address of the camera
  std::string settings = {};                         ///< hash of what it was found with
  std::chrono::system_clock::time_point taken = {};  ///< by the wall clock
  std::string report = {};                           ///< a line as of report_json
  ResultState state = ResultState::waiting;
  std::string why = {};  ///< it was given up
  /// Since the picture was taken. By the time since the system started where that is the same, so that a
  /// wall clock that is set does not matter; else by the wall clock, never below 0.
  std::chrono::milliseconds age{0};
};

struct StoreCounts {
  int64_t results = 0, waiting = 0, given_up = 0;  ///< of those that are still stored
  int64_t bytes = 0;                               ///< of the database
};

/// Reads the results of a store, also while its station runs; writes nothing. Throws Error{bad_file} when
/// there is none, or it is none of this version.
class StoreReader {
 public:
  explicit StoreReader(const std::string& folder);
  ~StoreReader();
  StoreReader(const StoreReader&) = delete;
  StoreReader& operator=(const StoreReader&) = delete;

  std::string session() const;
  uint64_t newest() const;  ///< 0: none
  /// Those with a number above `number`, oldest first, at most `limit`.
  std::vector<StoredResult> after(uint64_t number, size_t limit) const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// The results of one station, which outlive its program: each has its number and is stored before it is
/// sent, and its state changes with what the receiver says. The numbers and the session go on over restarts.
/// A write is there as a whole or not at all, whenever the program is killed. May be used by several threads.
///
/// Every call may throw Error{not_writable}, a full disk say (the store then stands as before the call), or
/// Error{bad_file} when the database is broken.
class ResultStore {
 public:
  /// Throws Error{not_writable} when another program writes to it, or the folder cannot be made;
  /// Error{bad_file} when it is no store, of another version, or broken.
  explicit ResultStore(const StoreSettings& settings);
  ~ResultStore();
  ResultStore(const ResultStore&) = delete;
  ResultStore& operator=(const ResultStore&) = delete;

  /// A word that was made with the store. A receiver keeps it, with the newest number that it acted on.
  const std::string& session() const;
  /// 0 when none was stored yet. The next result has a number above it.
  uint64_t newest() const;
  /// The number for the next result.
  uint64_t next_number() const;
  /// Stores a result with its number, which must be `next_number()`; its state and age do not count. One more
  /// picture of its source was then taken.
  void add(const StoredResult& result, std::chrono::steady_clock::time_point taken);
  void settle(uint64_t number, ResultState state, const std::string& why = "");
  /// How many pictures of that source have results.
  uint64_t taken_of(const std::string& source) const;

  /// The oldest that is waiting, or that is acknowledged and not done.
  std::optional<StoredResult> unsettled() const;
  std::optional<StoredResult> result(uint64_t number) const;
  /// Those with a number above `number`, oldest first, at most `limit`.
  std::vector<StoredResult> after(uint64_t number, size_t limit) const;
  StoreCounts counts() const;

  /// Number of the set-up that was selected last; 0: none was.
  int selected_setup() const;
  void set_selected_setup(int number);
  /// How far a further receiver by this name has got, in numbers; 0 for a name that is new.
  uint64_t position(const std::string& receiver) const;
  void set_position(const std::string& receiver, uint64_t number);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
