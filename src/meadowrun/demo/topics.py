"""What people of the demo world can subscribe to, in the languages that some of them read."""

from meadowrun.people.models import Topic


def topics() -> list[Topic]:
    """The topics of Farrow Hill, in English, German and French."""
    return [
        Topic(
            key="sky_diary",
            name="Sky diary",
            about="what to see this month",
            often="once a month",
            by_language={
                "de": {
                    "name": "Himmelstagebuch",
                    "about": "was es diesen Monat zu sehen gibt",
                    "often": "einmal im Monat",
                },
                "fr": {
                    "name": "Carnet du ciel",
                    "about": "que voir ce mois-ci",
                    "often": "une fois par mois",
                },
            },
        ),
        Topic(
            key="members_news",
            name="Members’ news",
            about="for members only",
            often="every second month",
            by_language={
                "de": {
                    "name": "Neues für Mitglieder",
                    "about": "nur für Mitglieder",
                    "often": "alle zwei Monate",
                },
                "fr": {
                    "name": "Nouvelles des membres",
                    "about": "pour les membres seulement",
                    "often": "tous les deux mois",
                },
            },
        ),
        Topic(
            key="events",
            name="Nights and lectures",
            about="what is on at the dome",
            often="up to twice a month",
            by_language={
                "de": {
                    "name": "Abende und Vorträge",
                    "about": "was in der Kuppel los ist",
                    "often": "bis zu zweimal im Monat",
                },
                "fr": {
                    "name": "Soirées et conférences",
                    "about": "ce qui se passe à la coupole",
                    "often": "jusqu’à deux fois par mois",
                },
            },
        ),
        Topic(
            key="schools",
            name="Schools",
            about="visits for classes",
            often="before each term",
            by_language={
                "de": {
                    "name": "Schulen",
                    "about": "Besuche für Klassen",
                    "often": "vor jedem Halbjahr",
                },
                "fr": {
                    "name": "Écoles",
                    "about": "visites de classes",
                    "often": "avant chaque trimestre",
                },
            },
        ),
    ]
