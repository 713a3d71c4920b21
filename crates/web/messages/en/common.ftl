# Words that more than one page uses.

month-1 = January
month-2 = February
month-3 = March
month-4 = April
month-5 = May
month-6 = June
month-7 = July
month-8 = August
month-9 = September
month-10 = October
month-11 = November
month-12 = December

# A day of a year, for example 14 July 2026.
day-of-year = { $day } { $month } { $year }
# A day of the present year.
day-of-month = { $day } { $month }

unit-litres = { $value } L
unit-cubic-metres = { $value } m³
unit-gallons = { $value } gal
unit-millimetres = { $value } mm
unit-inches = { $value } in

days-every = every day
days-none = no day
days-nth = { $interval ->
    [2] every second day, counted from { $first }
    [3] every third day, counted from { $first }
   *[other] every { $interval } days, counted from { $first }
}
days-odd = odd dates
days-even = even dates
weekday-0 = Mon
weekday-1 = Tue
weekday-2 = Wed
weekday-3 = Thu
weekday-4 = Fri
weekday-5 = Sat
weekday-6 = Sun
