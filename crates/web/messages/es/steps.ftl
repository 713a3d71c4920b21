# Los pasos de programación de un controlador: lo que lee la cuadrilla delante de él.

steps-title = Programar { $place }
steps-lead = En el orden de la mayoría de los controladores. Las marcas valen para todos los que programan esta versión.
steps-version = versión { $version } del { $day }, { $who }
steps-version-none = todavía no hay nada registrado
steps-last = Última marca: { $tick }.
steps-sheet = Hoja del controlador
steps-print = Imprimir
steps-count = { $done } de { $all } hechos.
steps-clear = Borrar todas las marcas
steps-done = Cuando todo esté programado, marque la versión: desde entonces la cuenta la toma como lo que riega el controlador.

steps-clean = Empezar con el controlador limpio
steps-clean-when = cuando puede tener algo desconocido
steps-clean-1 = Anote lo que tiene ahora el controlador, programa por programa, y guárdelo como la versión encontrada.
steps-clean-2 = Borre todos los arranques de todos los programas, también de los que parecen vacíos.
steps-clean-3 = Ponga en cero todos los tiempos de riego de todos los programas.
steps-clean-4 = Ponga todos los porcentajes en 100 %.
steps-clean-5 = Quite las pausas por lluvia y las anulaciones de sensores, los retardos entre estaciones y los días sin riego.
steps-clean-6 = Si el controlador puede mostrarlo, recorra un día en su pantalla: no debe regar nada.

caution-1 = Corte la corriente antes de abrir el controlador. Trabaje solo en el lado de baja tensión; la red es cosa de un electricista autorizado.
caution-2 = Pise suelo firme; use la escalera solo si alguien la sujeta.
caution-3 = Con helada, el agua congela pavimentos y escalones: pare los programas.
caution-4 = Las reglas locales de riego y las instrucciones del fabricante están por encima de esta hoja.

steps-clock = Reloj
steps-clock-why = De él dependen todos los arranques.
steps-clock-right = La fecha, el día de la semana y la hora están bien
steps-clock-zone = zona horaria { $zone }
steps-starts = Arranques
steps-starts-why = Cada arranque riega una vez el programa completo.
steps-starts-of = Programa { $program }: { $starts }
steps-starts-other = borrados los demás arranques de este programa
steps-starts-repeat = repetir hasta las { $until }, cada { $pause }
steps-starts-none = Programas { $programs }: sin arranque
steps-starts-none-why = borrados los arranques viejos que no se ven
steps-minutes = Minutos
steps-minutes-why = Al 100 %; el controlador aplica el porcentaje.
steps-minutes-of = Programa { $program }, { $zone }: { $length }
steps-minutes-cycles = ciclos de { $cycle }, reposo de { $soak }
steps-days = Días
steps-days-of = Programa { $program }: { $days }
steps-days-never = Sin riego: { $days }
steps-percentage = Porcentaje
steps-percentage-controller = Todo el controlador: { $percentage }
steps-percentage-program = Programa { $program }: { $percentage }
steps-percentage-month = { $month }: { $percentage }
steps-rest = Sensores y lo demás
steps-rest-station = { $zone }: { $extras }
steps-rest-bypass = Sensores activos, sin anulación
steps-rest-bypass-why = la pantalla muestra si alguno impide regar ahora
steps-rest-delay = Retardo entre estaciones: { $delay }
steps-rest-overlap = Las estaciones se solapan { $overlap }
steps-rest-hours = Sin arranque entre las { $from } y las { $until }
steps-rest-off-season = Fuera de temporada del { $from } al { $until }
steps-rest-rain-delay = Pausa por lluvia de { $days ->
    [one] un día
   *[other] { $days } días
} desde el { $first }
steps-rest-dates = Sin riego el { $dates }
steps-rest-master = La válvula maestra abre { $lead } antes de una estación y sigue abierta { $lag } después
steps-auto = De vuelta a automático
steps-auto-why = Un controlador apagado es la causa más común de un jardín muerto.
steps-auto-check = Repase una vez más todos los programas
steps-auto-on = El controlador está en automático
steps-auto-sheet = La hoja nueva está en la puerta y la vieja se retiró

extra-lighting = iluminación
extra-master-valve = válvula maestra
extra-pump = bomba
extra-ignores-sensors = no obedece a los sensores
extra-fixed = tiempo de riego fijo
