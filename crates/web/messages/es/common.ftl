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

days-every = todos los días
days-none = ningún día
days-nth = { $interval ->
    [2] cada dos días, contados desde el { $first }
    [3] cada tres días, contados desde el { $first }
   *[other] cada { $interval } días, contados desde el { $first }
}
days-odd = fechas impares
days-even = fechas pares
weekday-0 = lun
weekday-1 = mar
weekday-2 = mié
weekday-3 = jue
weekday-4 = vie
weekday-5 = sáb
weekday-6 = dom
