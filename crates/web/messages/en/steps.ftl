# The programming steps of a controller: what a crew reads at it.

steps-title = Program { $place }
steps-lead = In the order of most controllers. Ticks stand for everybody who programs this version.
steps-version = version { $version } of { $day }, { $who }
steps-version-none = nothing recorded yet
steps-last = Last tick: { $tick }.
steps-sheet = Controller sheet
steps-print = Print
steps-count = { $done } of { $all } done.
steps-clear = Clear every tick
steps-done = When everything is programmed, tick the version: from then on the account takes it as what the controller runs.

steps-clean = Start from a clean controller
steps-clean-when = when anything unknown may be in it
steps-clean-1 = Note what is in the controller now, program by program, and keep it as the version as found.
steps-clean-2 = Clear every start time of every program, also of those that look empty.
steps-clean-3 = Set every run time to nothing in every program.
steps-clean-4 = Set every percentage to 100 %.
steps-clean-5 = End rain delays and bypasses, and clear station delays and no-water days.
steps-clean-6 = Run the controller through a day on its own display, if it can show one: nothing may run.

caution-1 = Power off before the controller is opened. Work on the low-voltage side only; mains belong to a licensed electrician.
caution-2 = Stand on firm ground; use a ladder only when somebody holds it.
caution-3 = In frost, spray ices paving and steps: pause the programs.
caution-4 = Local watering rules and the maker's instructions come before this sheet.

steps-clock = Clock
steps-clock-why = Every start counts from it.
steps-clock-right = Date, day of the week and time are right
steps-clock-zone = time zone { $zone }
steps-starts = Starts
steps-starts-why = Each start runs its whole program once.
steps-starts-of = Program { $program }: { $starts }
steps-starts-other = every other start of this program cleared
steps-starts-repeat = repeat until { $until }, interval { $pause }
steps-starts-none = Programs { $programs }: no start
steps-starts-none-why = hidden old starts cleared
steps-minutes = Minutes
steps-minutes-why = At 100 %; the controller applies the percentage itself.
steps-minutes-of = Program { $program }, { $zone }: { $length }
steps-minutes-cycles = cycles of { $cycle }, soak { $soak }
steps-days = Days
steps-days-of = Program { $program }: { $days }
steps-days-never = No watering on { $days }
steps-percentage = Percentage
steps-percentage-controller = Whole controller: { $percentage }
steps-percentage-program = Program { $program }: { $percentage }
steps-percentage-month = { $month }: { $percentage }
steps-rest = Sensors and the rest
steps-rest-station = { $zone }: { $extras }
steps-rest-bypass = Sensors on, no bypass left
steps-rest-bypass-why = the display shows whether one prevents watering now
steps-rest-delay = Station delay { $delay }
steps-rest-overlap = Stations overlap by { $overlap }
steps-rest-hours = No start between { $from } and { $until }
steps-rest-off-season = Off-season { $from } to { $until }
steps-rest-rain-delay = Rain delay of { $days ->
    [one] one day
   *[other] { $days } days
} from { $first }
steps-rest-dates = No watering on { $dates }
steps-rest-master = Master valve opens { $lead } before a station and stays open { $lag } after it
steps-auto = Back to automatic
steps-auto-why = A controller left off is the commonest dead landscape.
steps-auto-check = Read every program through once more
steps-auto-on = The controller is on automatic
steps-auto-sheet = The new sheet is in the door, the old one taken along

extra-lighting = lighting
extra-master-valve = master valve
extra-pump = pump
extra-ignores-sensors = ignores sensors
extra-fixed = fixed run time
