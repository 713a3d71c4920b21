# Palabras que usan varias páginas.

month-1 = enero
month-2 = febrero
month-3 = marzo
month-4 = abril
month-5 = mayo
month-6 = junio
month-7 = julio
month-8 = agosto
month-9 = septiembre
month-10 = octubre
month-11 = noviembre
month-12 = diciembre

day-of-year = { $day } de { $month } de { $year }
day-of-month = { $day } de { $month }

unit-litres = { $value } L
unit-cubic-metres = { $value } m³
unit-gallons = { $value } gal
unit-millimetres = { $value } mm
unit-inches = { $value } in

