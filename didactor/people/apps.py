from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "didactor.people"
    label = "people"
