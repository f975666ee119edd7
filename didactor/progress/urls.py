from django.urls import path

from didactor.progress import views

app_name = "progress"
urlpatterns = [
    path("students/<int:pk>/weeks/", views.weeks, name="weeks"),
    path("students/<int:pk>/term.pdf", views.term_paper, name="term_paper"),
    path("students/<int:pk>/takes.csv", views.takes_file, name="takes_file"),
    path("together/<int:pk>/", views.make_together, name="make_together"),
    path("together/<int:pk>/away/", views.drop_together, name="drop_together"),
    path("groups/<int:pk>/marks.csv", views.marks_file, name="marks_file"),
    path("groups/<int:pk>/grid.csv", views.grid_file, name="grid_file"),
    path("students/<int:pk>/erase/", views.erase_student, name="erase_student"),
    path("takes/<int:pk>/erase/", views.erase_take, name="erase_take"),
]
