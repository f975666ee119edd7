from django.apps import AppConfig


class LettersConfig(AppConfig):
    name = "didactor.letters"
    label = "letters"
