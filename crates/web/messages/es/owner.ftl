# La página del propietario: una finca en palabras de quien no es técnico.

owner-title = El agua en { $site }
owner-period = del { $from } al { $to }
owner-show = Ver
owner-month = Mes
owner-last-days = los últimos 30 días
owner-no-days = Todavía no hay cuenta de agua para estos días. Empieza cuando se registran el clima y las zonas.

owner-all-well = Las plantas tuvieron suficiente agua.
owner-some-short = { $short ->
    [one] A una de { $zones } áreas le faltó agua durante { $days ->
        [one] un día
       *[other] { $days } días
    }: { $names }.
   *[other] A { $short } de { $zones } áreas les faltó agua, hasta { $days } días: { $names }.
}

owner-used = Agua usada
owner-used-about = entre { $low } y { $high }, con la exactitud con que se midieron los aspersores
owner-used-unknown = no se sabe: no se midió la superficie de ninguna área
owner-rain = Lluvia que aprovecharon las plantas
owner-rain-share = { $share } % de lo que necesitaban
owner-saved = Menos que antes
owner-more = Más que antes
owner-saved-as_found = comparado con la programación que encontramos en los controladores
owner-saved-fixed = comparado con los mismos programas al 100 % y sin sensores
owner-saved-unknown = Se podrá comparar cuando estén registrados los programas de los controladores y la superficie de las áreas.
owner-money = unos { $amount }

owner-balance = Lo que necesitaron las plantas y de dónde vino
owner-balance-words = Semana a semana: la línea es lo que necesitaron las plantas; las barras son la lluvia y el riego que quedaron al alcance de las raíces.
owner-needed = necesario
owner-from-rain = lluvia
owner-from-watering = riego
owner-week-of = Semana del { $day }: necesario { $needed }, lluvia { $rain }, riego { $watering }

owner-tonight = Esta noche
owner-tonight-runs = { $place }: se riega { $zones ->
    [one] un área
   *[other] { $zones } áreas
} entre las { $from } y las { $until }.
owner-tonight-needs = { $place }: { $zones ->
    [one] un área necesita
   *[other] { $zones } áreas necesitan
} agua; el controlador calcula el tiempo por sí mismo.
owner-tonight-held = { $place }: no se riega, por { $cause }.
owner-tonight-none = { $place }: no hay riego programado para esta noche.

cause-rain = la lluvia
cause-frost = la helada
cause-wind = el viento
cause-wet_soil = la humedad del suelo
cause-contact = un interruptor en el controlador
cause-rain_delay = una pausa programada
cause-off_season = el descanso de la temporada
cause-omitted_date = ser una fecha sin riego

owner-areas = Cada área
owner-area-state-dry = seca
owner-area-state-right = con suficiente agua
owner-area-state-wet = con más agua de la necesaria
owner-area-watered = { $nights ->
    [0] sin riego
    [one] regada un día
   *[other] regada { $nights } días
}
owner-area-held = { $nights ->
    [one] un día sin riego por { $cause }
   *[other] { $nights } días sin riego por { $cause }
}
owner-area-short = { $days ->
    [one] un día con falta de agua
   *[other] { $days } días con falta de agua
}

owner-done = Lo que se hizo
owner-done-nothing = En estos días no vino nadie.
owner-done-visit = { $day }: visita de { $who }
owner-done-adjusted = { $day }: se ajustó el riego en { $count ->
    [one] un punto
   *[other] { $count } puntos
}
owner-decide = Lo que usted decide
owner-decide-nothing = No hay nada pendiente de usted.
owner-decide-repair = { $area }: { $what }, visto el { $day }. Díganos, por favor, si se repara.

sign-no_water = no sale agua al abrirla
sign-runs_when_off = corre o gotea agua estando cerrada
sign-broken = un aspersor o un tubo roto
sign-leaning = un aspersor inclinado o hundido
sign-blocked = un aspersor o un gotero tapado
sign-weak_spray = un chorro corto o niebla
sign-other_running = otra área riega al mismo tiempo
sign-runoff = el agua escurre

owner-contact = Preguntas
owner-contact-words = Pregunte a { $name }.
owner-how = Cómo se calcula
owner-how-words = Con el clima, las plantas, el suelo y la medida de los aspersores se lleva un balance de agua por área y por hora. Lo que se midió hace más exactas las cifras; lo que no, se estima como lo hacen los manuales.
owner-handover = Lo que está programado, para quien cuide el jardín
owner-back = Volver a la página del agua

handover-title = El riego en { $site }
handover-set = Lo que está programado
handover-program = Programa { $name }: { $days }; arranques { $starts }; { $areas }
handover-station = estación { $number }
handover-not-touch = Déjelo como está
handover-not-1 = No apague el controlador, tampoco en invierno: tiene puestos el reloj y el descanso de la temporada.
handover-not-2 = Deje los sensores en su lugar, sin cubrir, y el interruptor de los sensores en activo.
handover-not-3 = No cambie arranques ni minutos: las noches, las reglas locales y el suministro de agua se calcularon juntos.
handover-may = Usted puede
handover-may-1 = Parar el riego enseguida: ponga el controlador en apagado o en pausa, y llame.
handover-may-2 = Cerrar el agua en la válvula principal si revienta un tubo; ábrala después despacio.
handover-call = A quién llamar
handover-none = Todavía no hay ningún programa registrado.
