"""Invented names for the demo world: common ones of several tongues, none of anybody in particular."""

FIRST = ("Aria", "Ben", "Cleo", "Dov", "Edda", "Finn", "Greta", "Hamza", "Ines", "Jonah", "Keziah", "Liam", "Maya", "Noor",
         "Oskar", "Priya", "Quentin", "Rosa", "Samir", "Tilda", "Ulla", "Viktor", "Wren", "Xenia", "Yusuf", "Zoë", "Anselm",
         "Beatriz", "Cormac", "Dilys", "Emeka", "Freya", "Günther", "Hanneke", "Idris", "Jana", "Kofi", "Lucía", "Marek",
         "Nadia", "Orla", "Pavel", "Rhiannon", "Søren", "Thandi", "Uma", "Vera", "Wilf", "Yara", "Zoltán", "Agnès", "Bram",
         "Catrin", "Dmitri", "Élodie", "Fatima", "Gwen", "Henrik", "Ivo", "Jürgen", "Kirsty", "Leif", "Moira", "Nils")
LAST = ("Whitlock", "Oduya", "Marsh", "Abara", "Thornbury", "Lindqvist", "Okafor", "Penhallow", "Sørensen", "Castellan",
        "Brightwater", "Müller-Hayes", "O’Dell", "Varga", "Ibáñez", "Fairweather", "Kaczmarek", "Holloway", "Nakagawa", "Quist",
        "Ravenscar", "Singh", "Tolliver", "Underhill", "Vasquez", "Wainfleet", "Yilmaz", "Zeller", "Ashdown", "Bellwether",
        "Carrow", "Dunmore", "Eastlake", "Farthing", "Greenhalgh", "Harrowby", "Ingram", "Jessop", "Kestrel", "Lovelace",
        "Mistry", "Northcott", "Ormerod", "Pemberley", "Rook", "Stillwell", "Tamsin", "Uttley", "Vane", "Winterbourne",
        "Adeyemi", "Björk", "Crowther", "Dubois", "Ellery", "Fenwick", "Grüber", "Haddad", "Iversen", "Jankowski")
TOWNS = ("Farrow", "Tarnside", "Upper Tarn", "Cold Ley", "Wickmere")
TOWN_SHARES = (0.34, 0.24, 0.15, 0.12, 0.15)
COMPANY_FIRST = ("Tarnside", "Farrow", "Cold Ley", "Wickmere", "Upper Tarn", "Northmoor", "Larkfield", "Hollin", "Stonebeck",
                 "Kingsdale", "Mere End", "Ashby Cross", "Thornmoor", "Beacon Hill", "Riverhead")
COMPANY_KINDS = {"School": ("Primary School", "Academy", "Grammar School", "Village School"),
                 "Club": ("Astronomical Society", "Walking Club", "Camera Club", "Scouts"),
                 "Sponsor": ("Optics", "Building Society", "Bakery", "Engineering")}
LECTURES = ("The rings of Saturn", "How stars die", "Comets in old books", "Listening for pulsars", "A telescope of your own",
            "The dark between galaxies", "Moons with oceans", "Reading the Milky Way", "The year the sky fell", "Maps of Mars")
NIGHTS = ("Moon night", "Leonid nights", "Saturn night", "Open night", "Deep-sky evening", "Comet watch")
PAGES = ("/", "/programme", "/tickets", "/join", "/visit", "/shop", "/schools", "/tonight")
