# The page of an owner: one property in a layman's words.

owner-title = Water at { $site }
owner-period = { $from } to { $to }
owner-show = Show
owner-month = Month
owner-last-days = the last 30 days
owner-no-days = There is no water account for these days yet. It begins when weather and zones are entered.

# The first sentence: how the plants did. $short counts the zones that were dry on several days.
owner-all-well = The plants had enough water.
owner-some-short = { $short ->
    [one] One of { $zones } areas was short of water on { $days ->
        [one] one day
       *[other] { $days } days
    }: { $names }.
   *[other] { $short } of { $zones } areas were short of water, for up to { $days } days: { $names }.
}

owner-used = Water used
owner-used-about = between { $low } and { $high }, as exactly as the sprinklers were measured
owner-used-unknown = not known: the size of no area was measured
owner-rain = Rain that the plants used
owner-rain-share = { $share } % of what they needed
owner-saved = Less than before
owner-more = More than before
owner-saved-as_found = compared with how the controllers were set when we found them
owner-saved-fixed = compared with the same programs left at 100 % without sensors
owner-saved-unknown = A comparison is possible once the controllers' programs and the size of the areas are entered.
owner-money = about { $amount }

owner-balance = What the plants needed, and where it came from
owner-balance-words = Week by week: the line is what the plants needed, the bars are rain and watering that stayed where roots reach.
owner-needed = needed
owner-from-rain = rain
owner-from-watering = watering
owner-week-of = Week of { $day }: needed { $needed }, rain { $rain }, watering { $watering }

owner-tonight = Tonight
owner-tonight-runs = { $place }: waters { $zones ->
    [one] one area
   *[other] { $zones } areas
} between { $from } and { $until }.
owner-tonight-needs = { $place }: { $zones ->
    [one] one area needs
   *[other] { $zones } areas need
} water; the controller works out the time by itself.
owner-tonight-held = { $place }: no watering, because of { $cause }.
owner-tonight-none = { $place }: no watering is set for tonight.

# What held watering back.
cause-rain = rain
cause-frost = frost
cause-wind = wind
cause-wet_soil = soil that is wet enough
cause-contact = a switch at the controller
cause-rain_delay = a pause that was set
cause-off_season = the season's rest
cause-omitted_date = a date without watering

owner-areas = Each area
owner-area-state-dry = dry
owner-area-state-right = enough water
owner-area-state-wet = more water than it needs
owner-area-watered = { $nights ->
    [0] not watered
    [one] watered on one day
   *[other] watered on { $nights } days
}
owner-area-held = { $nights ->
    [one] left out on one day because of { $cause }
   *[other] left out on { $nights } days because of { $cause }
}
owner-area-short = { $days ->
    [one] short of water on one day
   *[other] short of water on { $days } days
}

owner-done = What was done
owner-done-nothing = Nobody was here in these days.
owner-done-visit = { $day }: visit by { $who }
owner-done-adjusted = { $day }: the watering was adjusted in { $count ->
    [one] one place
   *[other] { $count } places
}
owner-decide = For you to decide
owner-decide-nothing = Nothing waits for you.
owner-decide-repair = { $area }: { $what }, seen on { $day }. Please say whether it is to be repaired.

# What was found at an area and needs a repair.
sign-no_water = no water comes when it is switched on
sign-runs_when_off = water runs or drips when it is off
sign-broken = a broken sprinkler or pipe
sign-leaning = a sprinkler that leans or has sunk
sign-blocked = a blocked sprinkler or dripper
sign-weak_spray = a short spray or mist
sign-other_running = another area runs at the same time
sign-runoff = water runs off

owner-contact = Questions
owner-contact-words = Ask { $name }.
owner-how = How this is worked out
owner-how-words = From the weather, the plants, the soil and how the sprinklers were measured, a balance of water is kept for every area and hour. What was measured makes the figures more exact; what was not is estimated as handbooks do.
owner-handover = What is set, for whoever looks after the garden
owner-back = Back to the water page

handover-title = Watering at { $site }
handover-set = What is set
handover-program = Program { $name }: { $days }; starts { $starts }; { $areas }
handover-station = station { $number }
handover-not-touch = Leave as it is
handover-not-1 = Do not switch the controller off, also not in winter: its clock and its season's rest are set.
handover-not-2 = Leave sensors where they are, uncovered, and the bypass switch on active.
handover-not-3 = Do not change start times or minutes: nights, local rules and the water supply are worked out together.
handover-may = You may
handover-may-1 = Stop watering at once: set the controller to off or pause it, and call.
handover-may-2 = Close the water at the main valve if a pipe bursts; open it again slowly.
handover-call = Who to call
handover-none = No program is entered yet.
