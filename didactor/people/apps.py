from django.apps import AppConfig

from didactor.core.words import speak_with
from didactor.web.speaking import Reader


class PeopleConfig(AppConfig):
    name = "didactor.people"
    label = "people"

    def ready(self) -> None:
        speak_with(Reader())
